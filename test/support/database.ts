import { randomBytes } from 'node:crypto';
import { sql } from '../../src/core/sql/fragment.ts';
import { connect, run, type Database } from '../../src/store/connection.ts';

/** A database of a test's own, in the cluster of the tests; dropped at the end. */
export interface OwnDatabase {
  readonly url: string;
  readonly database: Database;
  drop(): Promise<void>;
}

function clusterUrl(): string {
  const url = process.env.TEST_DATABASE_URL;
  if (url === undefined) throw new Error('TEST_DATABASE_URL is not set: run the tests with “npm test”');
  return url;
}

export async function ownDatabase(): Promise<OwnDatabase> {
  const name = `t_${randomBytes(6).toString('hex')}`;
  const admin = connect({ url: clusterUrl(), poolSize: 1 });
  const create = { ...sql``, text: `create database ${name}` };
  await run(admin, create);
  const url = clusterUrl().replace(/\/[^/]*$/, `/${name}`);
  const database = connect({ url, poolSize: 4 });
  return {
    url,
    database,
    async drop() {
      await database.destroy();
      await run(admin, { ...sql``, text: `drop database if exists ${name} with (force)` });
      await admin.destroy();
    },
  };
}
