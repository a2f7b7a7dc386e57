import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import NativeSelect from '@mui/material/NativeSelect';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { gate } from '../../api/client.ts';
import { useSession, useUnlocked } from '../../api/session.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';

type How = 'to' | 'by' | 'list';

const hows: Readonly<Record<How, { name: string; label: string; about: string }>> = {
  to: { name: 'to one person', label: 'Address or id', about: 'Everybody’s address, or their id.' },
  by: { name: 'by a path', label: 'Path', about: 'From the record to a person, such as apiary.host.' },
  list: {
    name: 'by a list',
    label: 'CSV',
    about: 'A line for each record: its label or id, and a person by address or id.',
  },
};

/** Records that nobody owns, and whose they are to be: looked at first, saved after an unlock, and undone as long as nobody has changed them. */
export function OwnersPanel({ collection }: { collection: string }) {
  const queries = useQueryClient();
  const session = useSession();
  const isUnlocked = useUnlocked();
  const [how, setHow] = useState<How>('to');
  const [said, setSaid] = useState('');
  const [where, setWhere] = useState('');
  const ownerless = useQuery({
    queryKey: ['ownerless', collection],
    queryFn: () => gate.ownerless(collection),
  });
  const assign = useMutation({
    mutationFn: (look: boolean) =>
      gate.assignOwners(collection, {
        [how]: said,
        look,
        ...(where.trim() === '' ? {} : { where: where.trim() }),
      }),
    onSuccess: (_, look) => (look ? undefined : queries.invalidateQueries()),
  });
  const undo = useMutation({
    mutationFn: (id: string) => gate.undoOwners(id),
    onSuccess: () => queries.invalidateQueries(),
  });
  if (ownerless.isError) return <ErrorNote error={ownerless.error} retry={() => void ownerless.refetch()} />;
  if (ownerless.data === undefined) return null;
  const { total, without, examples, accepted } = ownerless.data;
  const may = session.data?.level === 'publisher' || session.data?.level === 'manager';
  const submit = (event: FormEvent) => {
    event.preventDefault();
    assign.mutate(true);
  };
  const done = assign.data;
  return (
    <Box component="section" aria-label="Owners" sx={{ display: 'grid', gap: 1 }}>
      <Typography variant="h2">Owners</Typography>
      <Typography sx={{ fontSize: '0.85rem' }}>
        {without === 0
          ? `Each of ${total} records has an owner.`
          : `${without} of ${total} records have no owner`}
        {without > 0 &&
          examples.length > 0 &&
          `: ${examples.slice(0, 6).join(', ')}${without > 6 ? ' …' : '.'}`}
        {accepted !== null && without > 0 && ` The rulebook accepts that: ${accepted}`}
      </Typography>
      {without > 0 && may && (
        <Box
          component="form"
          onSubmit={submit}
          sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', alignItems: 'flex-start' }}
        >
          <NativeSelect
            value={how}
            inputProps={{ 'aria-label': 'How owners are given' }}
            onChange={(event) => {
              setHow(event.target.value as How);
              assign.reset();
            }}
            sx={{ fontSize: '0.85rem', mt: 1 }}
          >
            {Object.entries(hows).map(([key, { name }]) => (
              <option key={key} value={key}>
                {name}
              </option>
            ))}
          </NativeSelect>
          <TextField
            size="small"
            required
            label={hows[how].label}
            helperText={hows[how].about}
            multiline={how === 'list'}
            value={said}
            onChange={(event) => {
              setSaid(event.target.value);
              assign.reset();
            }}
            sx={{ flex: '1 1 260px' }}
          />
          <TextField
            size="small"
            label="Only where"
            value={where}
            onChange={(event) => {
              setWhere(event.target.value);
              assign.reset();
            }}
            sx={{ flex: '1 1 200px' }}
          />
          <Button
            type="submit"
            size="small"
            variant="outlined"
            disabled={said.trim() === '' || assign.isPending}
            sx={{ mt: 0.5 }}
          >
            Look at it
          </Button>
          <Button
            size="small"
            variant="contained"
            disabled={
              !isUnlocked || done === undefined || done.id !== null || done.records === 0 || assign.isPending
            }
            title={isUnlocked ? undefined : 'After an unlock'}
            onClick={() => assign.mutate(false)}
            sx={{ mt: 0.5 }}
          >
            Save
          </Button>
        </Box>
      )}
      {assign.isError && <ErrorNote error={assign.error} />}
      {done !== undefined && (
        <Alert
          severity={done.id === null ? 'info' : 'success'}
          variant="outlined"
          action={
            done.id !== null && (
              <Button
                size="small"
                color="inherit"
                onClick={() => undo.mutate(done.id!)}
                disabled={undo.isPending || undo.isSuccess}
              >
                {undo.isSuccess ? 'Undone' : 'Undo'}
              </Button>
            )
          }
        >
          {done.id === null ? 'It would give' : 'It gave'} {done.records} records an owner; for {done.missed}{' '}
          nobody was found.{' '}
          {done.owners
            .slice(0, 5)
            .map(({ person, records, was, is }) => `${person}: ${records} (reads ${was} → ${is})`)
            .join('; ')}
        </Alert>
      )}
      {undo.isError && <ErrorNote error={undo.error} />}
    </Box>
  );
}
