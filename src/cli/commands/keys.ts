import type { Area, Level } from '../../client/desk.ts';
import { deskClient } from '../credentials.ts';
import type { Output } from '../output.ts';

interface MakeOptions {
  readonly level: Level;
  readonly for: Area[];
  readonly expires?: string;
  readonly issuer?: string;
}

/** `firmgate keys list` */
export async function keysList(output: Output): Promise<void> {
  const keys = await (await deskClient(output)).keys();
  output.data({ keys });
  if (keys.length === 0) output.line('There is no key yet: firmgate keys make NAME --level LEVEL --for AREA');
  else
    output.table(
      ['name', 'level', 'for', 'made by', 'last used', ''],
      keys.map((key) => [
        key.name,
        key.level,
        key.areas.join(', '),
        key.created_by,
        key.last_used_at?.slice(0, 16).replace('T', ' ') ?? 'never',
        key.revoked_at !== null
          ? `revoked ${key.revoked_at.slice(0, 10)}`
          : key.expires_at !== null
            ? `${Date.parse(key.expires_at) < Date.now() ? 'expired' : 'until'} ${key.expires_at.slice(0, 10)}`
            : '',
      ]),
    );
}

/** `firmgate keys make NAME --level LEVEL --for AREAS` */
export async function keysMake(output: Output, name: string, options: MakeOptions): Promise<void> {
  const { level, for: areas, expires, issuer } = options;
  const client = await deskClient(output);
  const key = await client.makeKey({
    name,
    level,
    areas,
    ...(expires === undefined ? {} : { expires }),
    ...(issuer === undefined ? {} : { issuer }),
  });
  output.data(key);
  output.line(`${output.good('✓')} ${key.name}: ${key.level}, for ${key.areas.join(', ')}`);
  output.line(`  ${key.secret}`);
  output.line('  This is the only time it is shown. Use it as FIRMGATE_DESK_TOKEN, or as a bearer token.');
}

/** `firmgate keys revoke NAME` */
export async function keysRevoke(output: Output, name: string): Promise<void> {
  await (await deskClient(output)).revokeKey(name);
  output.data({ revoked: name });
  output.line(`${output.good('✓')} ${name} is revoked: it opens nothing from the next request on`);
}
