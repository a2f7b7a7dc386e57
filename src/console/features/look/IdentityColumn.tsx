import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import CircularProgress from '@mui/material/CircularProgress';
import FormControl from '@mui/material/FormControl';
import InputLabel from '@mui/material/InputLabel';
import NativeSelect from '@mui/material/NativeSelect';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import type { Overview, RecordDocument } from '../../../client/desk.ts';
import { useUnlocked } from '../../api/session.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import type { WhySubject } from '../why/WhyPanel.tsx';
import { EmptyNote } from './EmptyNote.tsx';
import { RecordTable } from './RecordTable.tsx';
import { EVERYTHING, VISITOR, type LookResult } from './useLook.ts';

export interface IdentityColumnProps {
  readonly overview: Overview;
  readonly collection: Overview['collections'][number];
  readonly side: 'left' | 'right';
  readonly identity: string;
  readonly look: LookResult;
  /** The list beside it, to tell which records only one of the two sees. */
  readonly other: LookResult;
  readonly pointed: string | null;
  readonly onPoint: (id: string | null) => void;
  readonly onChoose: (identity: string) => void;
  /** Asks why this identity sees a record’s field, or does not. */
  readonly onAsk: (question: WhySubject) => void;
}

/** What one identity sees: who they are, how many records they get, and which. */
export function IdentityColumn({
  overview,
  collection,
  side,
  identity,
  look,
  other,
  pointed,
  onPoint,
  onChoose,
  onAsk,
}: IdentityColumnProps) {
  const chosen = overview.identities.find((each) => each.name === identity);
  const first = look.data?.pages[0];
  const records = look.data?.pages.flatMap((page) => page.records) ?? [];
  const id = `identity-${side}`;
  const isUnlocked = useUnlocked();
  return (
    <Paper
      component="section"
      aria-label={`${side} identity`}
      variant="outlined"
      sx={{ display: 'flex', flexDirection: 'column', minHeight: 0, minWidth: 0 }}
    >
      <Box sx={{ display: 'flex', alignItems: 'flex-end', gap: 2, p: 1.5, pb: 1 }}>
        <FormControl variant="standard" sx={{ minWidth: 130 }}>
          <InputLabel htmlFor={id}>Seen by</InputLabel>
          <NativeSelect
            value={identity}
            onChange={(event) => onChoose(event.target.value)}
            inputProps={{ id }}
          >
            {overview.identities.map((each) => (
              <option key={each.name} value={each.name}>
                {each.name}
              </option>
            ))}
            <option value={VISITOR}>visitor</option>
            {(isUnlocked || identity === EVERYTHING) && (
              <option value={EVERYTHING}>without an identity</option>
            )}
          </NativeSelect>
        </FormControl>
        <Typography sx={{ flex: 1, minWidth: 0, fontSize: '0.78rem', color: 'text.secondary', pb: 0.25 }}>
          {identity === EVERYTHING
            ? 'every record and field; on record'
            : describeRoles(chosen, first?.roles ?? [])}
        </Typography>
        <Typography data-testid={`count-${side}`} sx={{ fontVariantNumeric: 'tabular-nums', pb: 0.25 }}>
          {first === undefined ? (
            ''
          ) : (
            <>
              <strong>{first.count}</strong> of {first.total}
            </>
          )}
        </Typography>
      </Box>
      <Box
        sx={{ flex: 1, minHeight: 0, overflow: 'auto', borderTop: 1, borderColor: 'divider' }}
        tabIndex={0}
        role="region"
        aria-label={`Records seen by ${identity}`}
      >
        {look.isPending && <CircularProgress aria-label="Loading records" size={28} sx={{ m: 4 }} />}
        {look.isError && (
          <Box sx={{ p: 2 }}>
            <ErrorNote error={look.error} retry={() => void look.refetch()} />
          </Box>
        )}
        {first !== undefined && first.emptiness !== null && <EmptyNote emptiness={first.emptiness} />}
        {records.length > 0 && (
          <RecordTable
            overview={overview}
            collection={collection}
            records={records}
            caption={`${collection.name} seen by ${identity}`}
            otherIds={idsWhereComplete(other)}
            pointed={pointed}
            onPoint={onPoint}
            onAsk={(record, field) => {
              // Nobody has let it: there is no why.
              if (identity === EVERYTHING) return;
              onAsk({
                as: identity === VISITOR ? 'visitor' : identity,
                collection: collection.name,
                record: record.id,
                label: labelOf(collection, record),
                field: field === (collection.label ?? 'id') ? null : field,
              });
            }}
          />
        )}
        {look.hasNextPage && (
          <Button onClick={() => void look.fetchNextPage()} disabled={look.isFetchingNextPage} sx={{ m: 1 }}>
            {look.isFetchingNextPage
              ? 'Loading…'
              : `Show more (${records.length} of ${first?.count ?? 0} shown)`}
          </Button>
        )}
      </Box>
    </Paper>
  );
}

/** The name by which the identity knows the record. */
function labelOf(collection: Overview['collections'][number], record: RecordDocument): string {
  const value = collection.label === null ? null : (record as Record<string, unknown>)[collection.label];
  return typeof value === 'string' ? value : `…${record.id.slice(-6)}`;
}

/** The roles given by hand, each with its end, and those held by a condition besides. */
function describeRoles(
  identity: Overview['identities'][number] | undefined,
  held: readonly string[],
): string {
  if (identity === undefined) return 'a caller with no identity';
  const given = new Set(identity.roles.map((role) => role.split(' ')[0]!));
  const named = [...identity.roles, ...held.filter((role) => !given.has(role))];
  const roles =
    named.length === 0
      ? 'no role'
      : named.map((role) => role.replace(/ until (\d{4}-\d{2}-\d{2}).*/, ' until $1')).join(', ');
  return identity.active ? roles : `${roles} · deactivated`;
}

/** All ids that an identity sees, where its list has been loaded to the end; null where more may come. */
function idsWhereComplete(look: LookResult): ReadonlySet<string> | null {
  if (look.data === undefined || look.hasNextPage) return null;
  return new Set(look.data.pages.flatMap((page) => page.records.map((record) => record.id)));
}
