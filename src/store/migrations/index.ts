import type { Knex } from 'knex';
import { run, type Database } from '../connection.ts';
import { sql } from '../../core/sql/fragment.ts';
import * as first from './0001-foundations.ts';
import * as second from './0002-verified-addresses.ts';
import * as third from './0003-staff-and-trail.ts';
import * as fourth from './0004-people.ts';
import * as fifth from './0005-shares.ts';
import * as sixth from './0006-invitations.ts';
import * as seventh from './0007-provisioning.ts';
import * as eighth from './0008-json-and-times.ts';
import * as ninth from './0009-claimed-addresses.ts';
import * as tenth from './0010-plain-storage.ts';
import * as eleventh from './0011-shares-by-target.ts';
import * as twelfth from './0012-history.ts';
import * as thirteenth from './0013-owner-assignments.ts';
import * as fourteenth from './0014-passages.ts';
import * as fifteenth from './0015-drafts.ts';
import * as sixteenth from './0016-attempts.ts';
import * as seventeenth from './0017-previews.ts';
import * as eighteenth from './0018-shares-in-order.ts';

const migrations: Readonly<Record<string, Knex.Migration>> = {
  '0001-foundations': first,
  '0002-verified-addresses': second,
  '0003-staff-and-trail': third,
  '0004-people': fourth,
  '0005-shares': fifth,
  '0006-invitations': sixth,
  '0007-provisioning': seventh,
  '0008-json-and-times': eighth,
  '0009-claimed-addresses': ninth,
  '0010-plain-storage': tenth,
  '0011-shares-by-target': eleventh,
  '0012-history': twelfth,
  '0013-owner-assignments': thirteenth,
  '0014-passages': fourteenth,
  '0015-drafts': fifteenth,
  '0016-attempts': sixteenth,
  '0017-previews': seventeenth,
  '0018-shares-in-order': eighteenth,
};

/** All steps are listed here rather than found in a folder, so that source and build run the very same ones. */
const source: Knex.MigrationSource<string> = {
  getMigrations: async () => Object.keys(migrations),
  getMigrationName: (name) => name,
  getMigration: async (name) => migrations[name]!,
};

/** Brings the service's own tables up to date; safe to call at every start, and by two processes at once. */
export async function migrate(database: Database): Promise<void> {
  await run(database, sql`create schema if not exists gate`);
  await database.migrate.latest({ migrationSource: source, schemaName: 'gate', tableName: 'migrations' });
}
