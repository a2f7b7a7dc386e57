import { randomUUID } from 'node:crypto';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { createTransport } from 'nodemailer';

/** A letter ready to go. */
export interface Message {
  readonly to: string;
  readonly subject: string;
  readonly text: string;
}

/** Where letters go out. */
export interface Post {
  /** Throws where the letter could not be handed on. */
  send(message: Message): Promise<void>;
  close(): void;
}

/** How letters go out: through a mail server, or (for trying things out) into a folder. */
export type PostConfig =
  | { readonly kind: 'smtp'; readonly url: string; readonly from: string }
  | { readonly kind: 'outbox'; readonly folder: string; readonly from: string };

/** A mail server that does not answer holds nobody up for longer. */
const SMTP_MILLISECONDS = 10_000;
const SMTP_CONNECTIONS = 4;

export function openPost(config: PostConfig): Post {
  return config.kind === 'smtp' ? smtpPost(config) : outboxPost(config);
}

/** SMTP (RFC 5321), with STARTTLS where the server offers it, over a few connections that are kept. */
function smtpPost({ url, from }: PostConfig & { kind: 'smtp' }): Post {
  const transport = createTransport({
    url,
    pool: true,
    maxConnections: SMTP_CONNECTIONS,
    connectionTimeout: SMTP_MILLISECONDS,
    greetingTimeout: SMTP_MILLISECONDS,
    socketTimeout: SMTP_MILLISECONDS,
    disableFileAccess: true,
    disableUrlAccess: true,
  });
  return {
    async send(message) {
      await transport.sendMail({ ...message, from });
    },
    close: () => transport.close(),
  };
}

/** One file a letter (RFC 5322), `.eml`, which mail programs open. For its owner’s eyes alone: the links in them are good. */
function outboxPost({ folder, from }: PostConfig & { kind: 'outbox' }): Post {
  const transport = createTransport({ streamTransport: true, buffer: true, newline: 'windows' });
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  return {
    async send(message) {
      const { message: bytes } = await transport.sendMail({ ...message, from });
      const name = `${new Date().toISOString().replaceAll(/[:.]/g, '-')}-${randomUUID().slice(0, 8)}.eml`;
      writeFileSync(join(folder, name), bytes as Buffer, { mode: 0o600, flag: 'wx' });
    },
    close: () => transport.close(),
  };
}
