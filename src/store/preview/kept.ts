import { createHash } from 'node:crypto';
import type { Source } from '../../core/language/source.ts';
import { run, type Executor } from '../connection.ts';
import { sql, value } from '../../core/sql/fragment.ts';

/** What a preview was of: these texts, to be put in place of this version. Whatever else decides what it says belongs here. */
export interface Previewed {
  readonly files: readonly Source[];
  /** The version in force; 0: none. */
  readonly base: number;
  /** The version that is taken up again, whose names come back with it; null: none. */
  readonly restores: number | null;
  readonly takeBack: readonly string[];
}

/** What stays of a preview: counts, without anybody’s name and any record’s label. */
export interface PreviewCounts {
  /** Null: nothing was counted. `callers`: how many gain or lose. */
  readonly effects:
    | readonly {
        readonly collection: string;
        readonly operation: string;
        /** Those with the same numbers; null: the record. */
        readonly fields: readonly (string | null)[];
        readonly danger: string;
        readonly gained: number;
        readonly lost: number;
        readonly callers: number;
      }[]
    | null;
  readonly lockedOut: readonly { readonly collection: string; readonly callers: number }[];
  readonly frozen: readonly string[];
  /** There was more, for so few people that it is not kept. */
  readonly withheld: boolean;
}

/** `made_at` is RFC 3339. */
export interface KeptPreview extends PreviewCounts {
  readonly made_at: string;
  readonly made_by: string;
}

/** A publication may name a preview that is so old, in hours. */
export const PREVIEW_HOURS = 24;
/** Kept at most, the newest of them. */
const MOST_KEPT = 1_000;

/** Names a preview: the same text in place of the same version, the same digest (SHA-256, base64url). */
export function previewDigest({ files, base, restores, takeBack }: Previewed): string {
  const texts = files
    .map(({ name, text }) => [name, text] as const)
    .toSorted(([one], [other]) => (one < other ? -1 : 1));
  return createHash('sha256')
    .update(JSON.stringify([base, restores, takeBack.toSorted(), texts]))
    .digest('base64url');
}

/** Notes that a preview was made. */
export async function keepPreview(
  on: Executor,
  digest: string,
  by: string,
  counts: PreviewCounts,
): Promise<void> {
  await run(
    on,
    sql`insert into gate.previews (digest, made_by, counts) values (${value(digest)}, ${value(by)}, ${value(JSON.stringify(counts))}::jsonb)
      on conflict (digest) do update set made_at = clock_timestamp(), made_by = excluded.made_by, counts = excluded.counts`,
  );
  await run(
    on,
    sql`delete from gate.previews where made_at < clock_timestamp() - make_interval(hours => ${value(PREVIEW_HOURS)}::integer)
      or made_at < (select made_at from gate.previews order by made_at desc offset ${value(MOST_KEPT)}::integer limit 1)`,
  );
}

/** What stays of a preview, with when and by whom it was made; null where none is known, or it is too old. */
export async function keptPreview(on: Executor, digest: string): Promise<KeptPreview | null> {
  const [row] = await run<{ kept: KeptPreview }>(
    on,
    sql`select jsonb_build_object('made_at', to_jsonb(made_at), 'made_by', made_by)::jsonb || counts as kept from gate.previews
      where digest = ${value(digest)} and made_at >= clock_timestamp() - make_interval(hours => ${value(PREVIEW_HOURS)}::integer)`,
  );
  return row?.kept ?? null;
}
