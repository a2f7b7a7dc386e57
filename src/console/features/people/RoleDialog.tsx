import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import FormControl from '@mui/material/FormControl';
import InputLabel from '@mui/material/InputLabel';
import NativeSelect from '@mui/material/NativeSelect';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import type { PersonDetail, RoleChangeRequest, RolePreview } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { useUnlocked } from '../../api/session.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { NotDecided } from './NotDecided.tsx';

/** What the dialog begins with: a role to be taken, or one to be chosen and given. */
export interface WantedChange {
  readonly give: string | null;
  readonly take: string | null;
}

interface Props {
  readonly person: PersonDetail;
  readonly wanted: WantedChange;
  readonly onClose: () => void;
}

/** Gives or takes a role: shows what is gained and lost before it can be saved. */
export function RoleDialog({ person, wanted, onClose }: Props) {
  const queries = useQueryClient();
  const isUnlocked = useUnlocked();
  const [role, setRole] = useState('');
  const [from, setFrom] = useState('');
  const [until, setUntil] = useState('');
  const roles = useQuery({ queryKey: ['roles'], queryFn: () => gate.roles() });
  const change = changeOf(person.id, wanted.take, role, from, until);
  const preview = useQuery({
    queryKey: ['role preview', change],
    queryFn: () => gate.previewRoles(change!),
    enabled: change !== null,
  });
  const save = useMutation({
    mutationFn: () => gate.changeRoles(change!),
    onSuccess: async () => {
      onClose();
      await queries.invalidateQueries();
    },
  });
  const name = person.name ?? person.email ?? person.id;
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="md" aria-labelledby="role-title">
      <DialogTitle id="role-title">
        {wanted.take === null ? `Give ${name} a role` : `Take ${wanted.take} from ${name}`}
      </DialogTitle>
      <DialogContent sx={{ display: 'flex', flexDirection: 'column', gap: 2 }}>
        {wanted.take === null && (
          <Box sx={{ display: 'flex', gap: 2, pt: 1, flexWrap: 'wrap' }}>
            <FormControl size="small" variant="standard" sx={{ minWidth: 180 }}>
              <InputLabel htmlFor="role-name" shrink>
                Role
              </InputLabel>
              <NativeSelect
                value={role}
                inputProps={{ id: 'role-name' }}
                onChange={(event) => setRole(event.target.value)}
              >
                <option value="">choose one</option>
                {(roles.data ?? [])
                  .filter(({ held }) => held === 'by hand')
                  .map(({ name: each, title }) => (
                    <option key={each} value={each}>
                      {title === null ? each : `${each} — ${title}`}
                    </option>
                  ))}
              </NativeSelect>
            </FormControl>
            <DayField label="From" value={from} onChange={setFrom} />
            <DayField label="Until" value={until} onChange={setUntil} />
          </Box>
        )}
        {preview.isError && <ErrorNote error={preview.error} />}
        {change !== null && preview.isPending && (
          <Typography role="status">Counting what changes…</Typography>
        )}
        {preview.isSuccess && <Preview preview={preview.data} />}
        {save.isError && <ErrorNote error={save.error} />}
      </DialogContent>
      <DialogActions>
        {!isUnlocked && (
          <Typography sx={{ mr: 'auto', ml: 2, fontSize: '0.85rem', color: 'text.secondary' }}>
            Unlock first, at the top of the page, to save it.
          </Typography>
        )}
        <Button onClick={onClose}>Cancel</Button>
        <Button
          variant="contained"
          disabled={!isUnlocked || !preview.isSuccess || save.isPending}
          onClick={() => save.mutate()}
        >
          Save
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function changeOf(
  person: string,
  take: string | null,
  role: string,
  from: string,
  until: string,
): RoleChangeRequest | null {
  if (take !== null) return { people: [person], take: [take] };
  if (role === '') return null;
  // A day means its beginning, in UTC.
  const starts = from === '' ? {} : { starts: `${from}T00:00:00Z` };
  const ends = until === '' ? {} : { ends: `${until}T00:00:00Z` };
  return { people: [person], give: [{ role, ...starts, ...ends }] };
}

function DayField({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <TextField
      size="small"
      type="date"
      label={label}
      value={value}
      onChange={(event) => onChange(event.target.value)}
      slotProps={{ inputLabel: { shrink: true } }}
    />
  );
}

/** What is gained and lost, in numbers of records. */
function Preview({ preview: { at, people } }: { preview: RolePreview }) {
  const [{ roles, changes, undecided }] = people as [RolePreview['people'][number]];
  const added = roles.is.filter((role) => !roles.was.includes(role));
  const gone = roles.was.filter((role) => !roles.is.includes(role));
  return (
    <Box role="status" sx={{ display: 'flex', flexDirection: 'column', gap: 1 }}>
      <Typography sx={{ fontSize: '0.85rem' }}>
        {at !== null && `As of ${at.slice(0, 10)}: `}
        {[...added.map((role) => `+ ${role}`), ...gone.map((role) => `− ${role}`)].join(', ') ||
          'No other roles than now.'}
      </Typography>
      {changes.length === 0 ? (
        <Typography sx={{ fontSize: '0.85rem' }}>
          They may do neither more nor less by it
          {undecided.length === 0 ? '.' : ', as far as that could be decided.'}
        </Typography>
      ) : (
        <DenseTable
          label="What is gained and lost"
          heads={['Collection', 'May', 'Records', 'Gained or lost', 'Fields (on how many records)']}
        >
          {changes.map(({ collection, operation, records, fields }) => (
            <TableRow key={`${collection} ${operation}`}>
              <TableCell component="th" scope="row">
                {collection}
              </TableCell>
              <TableCell>{operation}</TableCell>
              <TableCell>
                {operation === 'create'
                  ? `${may(records.was)} → ${may(records.is)}`
                  : records.was === records.is
                    ? records.is
                    : `${records.was} → ${records.is}`}
              </TableCell>
              <TableCell>
                {operation === 'create' && records.was !== records.is ? '' : difference(records)}
              </TableCell>
              <TableCell sx={{ maxWidth: 340, whiteSpace: 'normal' }}>
                {operation === 'create'
                  ? fields.map(({ field, is }) => `${is > 0 ? '+' : '−'} ${field}`).join(', ')
                  : fields
                      .filter(
                        ({ field, was, is }) =>
                          !system.has(field) && (was !== records.was || is !== records.is),
                      )
                      .map(({ field, was, is }) => `${field} ${was} → ${is}`)
                      .join(', ')}
              </TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      <NotDecided what={undecided} />
    </Box>
  );
}

function may(count: number): string {
  return count > 0 ? 'may' : 'may not';
}

const system: ReadonlySet<string> = new Set(['id', 'created_at', 'updated_at']);

function difference({ was, is }: { was: number; is: number }): string {
  if (was === is) return 'in fields';
  return is > was ? `▲ ${is - was} more` : `▼ ${was - is} fewer`;
}
