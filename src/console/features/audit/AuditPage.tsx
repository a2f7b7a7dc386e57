import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { detailWords } from '../../../client/audit-words.ts';
import type { AuditEntryDocument } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { Page } from '../../components/Page.tsx';

/** The audit trail: who did what, when, from where, with what reason, and what changed. */
export function AuditPage() {
  const [actor, setActor] = useState('');
  const [action, setAction] = useState('');
  const [subject, setSubject] = useState('');
  const filter = Object.fromEntries(
    Object.entries({ actor: actor.trim(), action: action.trim(), subject: subject.trim() }).filter(
      ([, text]) => text !== '',
    ),
  );
  const pages = useInfiniteQuery({
    queryKey: ['audit', filter],
    queryFn: ({ pageParam }) =>
      gate.audit({ ...filter, ...(pageParam === null ? {} : { before: pageParam }) }),
    initialPageParam: null as number | null,
    getNextPageParam: ({ next }) => next,
    placeholderData: keepPreviousData,
  });
  const verify = useMutation({ mutationFn: () => gate.verifyAudit() });
  const entries = pages.data?.pages.flatMap((page) => page.entries) ?? [];
  const address = new URLSearchParams(filter).toString();
  return (
    <Page
      title="Audit trail"
      about="Entries are only ever added; each is bound by a hash to the one before, so that none can be changed or cut out unseen."
    >
      <Box sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
        <TextField
          size="small"
          label="Who"
          value={actor}
          onChange={(event) => setActor(event.target.value)}
        />
        <TextField
          size="small"
          label="Did"
          placeholder="role.give, or role"
          value={action}
          onChange={(event) => setAction(event.target.value)}
        />
        <TextField
          size="small"
          label="To"
          value={subject}
          onChange={(event) => setSubject(event.target.value)}
        />
        <Box sx={{ flex: 1 }} />
        <Button size="small" variant="outlined" disabled={verify.isPending} onClick={() => verify.mutate()}>
          Verify
        </Button>
        <Link href={`/v1/desk/audit/export?${address}`} download="audit.ndjson">
          Export
        </Link>
      </Box>
      <div role="status">
        {verify.isError && <ErrorNote error={verify.error} />}
        {verify.data?.faults.length === 0 && (
          <Typography sx={{ fontSize: '0.85rem' }}>
            ✓ {verify.data.entries} entries, each bound to the one before. The head is {verify.data.head.seq}:
            <code>{verify.data.head.hash.slice(0, 16)}…</code>
          </Typography>
        )}
        {verify.data?.faults.map(({ seq, what }) => (
          <Typography key={`${seq} ${what}`} sx={{ color: 'error.main', fontWeight: 600 }}>
            ✗ entry {seq} {what}
          </Typography>
        ))}
      </div>
      {pages.isError && <ErrorNote error={pages.error} retry={() => void pages.refetch()} />}
      {pages.isSuccess && entries.length === 0 && <Typography>No entry fits.</Typography>}
      {entries.length > 0 && (
        <DenseTable
          label="Entries, newest first"
          heads={['', 'When (UTC)', 'Who', 'From', 'Did', 'To', 'What changed', 'Reason']}
        >
          {entries.map((entry) => (
            <EntryRow key={entry.seq} entry={entry} />
          ))}
        </DenseTable>
      )}
      {pages.hasNextPage && (
        <Button
          sx={{ alignSelf: 'start' }}
          disabled={pages.isFetchingNextPage}
          onClick={() => void pages.fetchNextPage()}
        >
          Older entries
        </Button>
      )}
    </Page>
  );
}

const wide = { maxWidth: 260, whiteSpace: 'normal', overflowWrap: 'anywhere', verticalAlign: 'top' } as const;
const narrow = { maxWidth: 190, verticalAlign: 'top' } as const;

function EntryRow({ entry }: { entry: AuditEntryDocument }) {
  return (
    <TableRow>
      <TableCell sx={{ verticalAlign: 'top', color: 'text.secondary' }}>{entry.seq}</TableCell>
      <TableCell sx={narrow}>{entry.at.slice(0, 19).replace('T', ' ')}</TableCell>
      <TableCell sx={narrow} title={entry.actor}>
        {entry.actor}
      </TableCell>
      <TableCell sx={narrow}>{entry.from ?? '—'}</TableCell>
      <TableCell sx={narrow}>{entry.action}</TableCell>
      <TableCell sx={wide}>{entry.subject}</TableCell>
      <TableCell sx={wide}>{detailWords(entry.detail)}</TableCell>
      <TableCell sx={wide}>{entry.reason ?? '—'}</TableCell>
    </TableRow>
  );
}
