import { mkdtempSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { SignJWT, exportJWK, generateKeyPair } from 'jose';
import type { IssuerSettings } from '../../src/service/config.ts';

/** An issuer of the application's own, with its keys in a file. */
export interface OwnIssuer {
  readonly settings: IssuerSettings;
  /** A good token for this subject, with these claims beside. */
  token(subject: string, claims?: object): Promise<string>;
}

export const ISSUER = 'https://login.hollowoak.example/';

export async function ownIssuer(issuer = ISSUER): Promise<OwnIssuer> {
  const { publicKey, privateKey } = await generateKeyPair('ES256', { extractable: true });
  const keys = join(mkdtempSync(join(tmpdir(), 'issuer-')), 'keys.json');
  writeFileSync(
    keys,
    JSON.stringify({ keys: [{ ...(await exportJWK(publicKey)), kid: 'k', alg: 'ES256' }] }),
  );
  return {
    settings: { issuer, audience: 'gate', algorithms: ['ES256'], keys },
    token: (subject, claims = {}) =>
      new SignJWT({ ...claims })
        .setProtectedHeader({ alg: 'ES256', kid: 'k' })
        .setIssuer(issuer)
        .setSubject(subject)
        .setAudience('gate')
        .setIssuedAt()
        .setExpirationTime('5 minutes')
        .sign(privateKey),
  };
}
