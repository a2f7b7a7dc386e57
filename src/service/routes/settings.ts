import type { Router } from 'express';
import type { Settings } from '../../client/schemas/settings.ts';
import { DISCARDED_DAYS } from '../../store/publish/index.ts';
import { SHARE_LIMITS } from '../../store/shares/index.ts';
import type { ServiceConfig } from '../config.ts';
import { atLeast } from '../identity/principal.ts';
import type { PostConfig } from '../post/post.ts';
import { send } from './records.ts';
import { offer } from './route.ts';

/** `/v1/desk/settings`: with what the service was started, for managers. They are changed where it is started. */
export function offerSettings(router: Router, config: ServiceConfig): void {
  offer(router, '/settings', {
    async get(_, response) {
      atLeast(response, 'manager', 'staff');
      send(response, 200, settingsDocument(config));
    },
  });
}

function settingsDocument(config: ServiceConfig): Settings {
  const { leeway, welcome, origins, proxies } = config;
  const { byOne, withOne, sharers } = config.shares ?? SHARE_LIMITS;
  return {
    issuers: config.issuers.map(({ issuer, audience, algorithms, keys, person, newcomers, byAddress }) => ({
      issuer,
      audience,
      algorithms: [...algorithms],
      keys: withoutSecrets(keys),
      person,
      newcomers,
      byAddress,
    })),
    leeway,
    development: config.developmentKey !== null,
    letters: config.post === null ? null : lettersOf(config.post),
    welcome,
    origins: [...origins],
    proxies: [...proxies],
    shares: { byOne, withOne, sharers },
    discardedDays: config.discardedDays ?? DISCARDED_DAYS,
    processes: config.processes ?? 1,
  };
}

function lettersOf(post: PostConfig): NonNullable<Settings['letters']> {
  return post.kind === 'smtp'
    ? { by: 'mail server', to: new URL(post.url).host, from: post.from }
    : { by: 'outbox', to: post.folder, from: post.from };
}

/** An address without user, password, query and fragment; the name of a file as it is. */
function withoutSecrets(keys: string): string {
  if (!/^https?:/.test(keys)) return keys;
  const { origin, pathname } = new URL(keys);
  return `${origin}${pathname}`;
}
