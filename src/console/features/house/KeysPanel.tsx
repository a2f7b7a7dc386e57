import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import NativeSelect from '@mui/material/NativeSelect';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import type { KeyRequest, Level } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { useUnlocked } from '../../api/session.ts';
import { Choices } from '../../components/Choices.tsx';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';

const levels: readonly Level[] = ['viewer', 'author', 'publisher', 'manager'];
const areas = ['look', 'proof', 'rulebook', 'people', 'audit', 'scim'] as const;

/** Keys for programs: what each is for, who made it, and when it was used last. */
export function KeysPanel() {
  const queries = useQueryClient();
  const isUnlocked = useUnlocked();
  const [request, setRequest] = useState<KeyRequest>({ name: '', level: 'author', areas: ['proof'] });
  const keys = useQuery({ queryKey: ['keys'], queryFn: () => gate.keys() });
  const again = () => queries.invalidateQueries({ queryKey: ['keys'] });
  const make = useMutation({ mutationFn: () => gate.makeKey(request), onSuccess: again });
  const revoke = useMutation({ mutationFn: (name: string) => gate.revokeKey(name), onSuccess: again });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    make.mutate();
  };
  const error = keys.error ?? make.error ?? revoke.error;
  return (
    <Box component="section" aria-label="Keys" sx={{ display: 'grid', gap: 0.75 }}>
      <Typography variant="h2">Keys</Typography>
      {keys.data?.length === 0 && (
        <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem' }}>
          None. A program asks with a key of its own.
        </Typography>
      )}
      {keys.data !== undefined && keys.data.length > 0 && (
        <DenseTable label="Keys" heads={['key', 'level', 'for', 'made by', 'used last', 'state', '']}>
          {keys.data.map((key) => (
            <TableRow key={key.name}>
              <TableCell>{key.name}</TableCell>
              <TableCell>{key.level}</TableCell>
              <TableCell>{key.areas.join(', ')}</TableCell>
              <TableCell title={key.created_by}>{key.created_by}</TableCell>
              <TableCell>
                {key.last_used_at === null ? 'never' : new Date(key.last_used_at).toLocaleString()}
              </TableCell>
              <TableCell>
                {key.revoked_at !== null
                  ? '✗ revoked'
                  : key.expires_at === null
                    ? 'good'
                    : `good until ${new Date(key.expires_at).toLocaleDateString()}`}
              </TableCell>
              <TableCell>
                {key.revoked_at === null && (
                  <Button
                    size="small"
                    color="error"
                    disabled={!isUnlocked || revoke.isPending}
                    onClick={() => revoke.mutate(key.name)}
                  >
                    Revoke
                  </Button>
                )}
              </TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      <Box
        component="form"
        onSubmit={submit}
        aria-label="New key"
        sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}
      >
        <TextField
          size="small"
          label="Name of the key"
          required
          value={request.name}
          onChange={(event) => setRequest({ ...request, name: event.target.value })}
        />
        <NativeSelect
          value={request.level}
          inputProps={{ 'aria-label': 'Level of the key' }}
          onChange={(event) => setRequest({ ...request, level: event.target.value as Level })}
          sx={{ fontSize: '0.85rem' }}
        >
          {levels.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </NativeSelect>
        <Choices
          label="What it is for"
          options={areas}
          chosen={request.areas}
          onChange={(chosen) =>
            setRequest({ ...request, areas: areas.filter((area) => chosen.includes(area)) })
          }
        />
        <Button
          type="submit"
          size="small"
          variant="outlined"
          disabled={!isUnlocked || make.isPending || request.areas.length === 0}
        >
          Make the key
        </Button>
      </Box>
      {make.data !== undefined && (
        <Alert severity="success" variant="outlined" onClose={() => make.reset()}>
          The key {make.data.name}, shown here alone: <code>{make.data.secret}</code>
        </Alert>
      )}
      {error !== null && (
        <ErrorNote error={error} {...(keys.isError ? { retry: () => void keys.refetch() } : {})} />
      )}
    </Box>
  );
}
