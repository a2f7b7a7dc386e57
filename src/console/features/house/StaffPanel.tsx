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
import type { Level } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { useUnlocked } from '../../api/session.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';

const levels: readonly Level[] = ['viewer', 'author', 'publisher', 'manager'];

/** Accounts of staff and their levels. */
export function StaffPanel() {
  const queries = useQueryClient();
  const isUnlocked = useUnlocked();
  const [email, setEmail] = useState('');
  const [level, setLevel] = useState<Level>('viewer');
  const staff = useQuery({ queryKey: ['staff'], queryFn: () => gate.staff() });
  const again = () => queries.invalidateQueries({ queryKey: ['staff'] });
  const invite = useMutation({ mutationFn: () => gate.inviteStaff(email, level), onSuccess: again });
  const change = useMutation({
    mutationFn: ({ of, ...what }: { of: string; level?: Level; active?: boolean }) =>
      gate.changeStaff(of, what),
    onSuccess: again,
  });
  const renew = useMutation({ mutationFn: (of: string) => gate.staffLink(of) });
  const link = invite.data ?? renew.data;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    renew.reset();
    invite.mutate();
  };
  const error = staff.error ?? invite.error ?? change.error ?? renew.error;
  return (
    <Box component="section" aria-label="Staff" sx={{ display: 'grid', gap: 0.75 }}>
      <Typography variant="h2">Staff</Typography>
      {staff.data !== undefined && (
        <DenseTable label="Staff" heads={['address', 'level', 'state', '']}>
          {staff.data.map((each) => (
            <TableRow key={each.email}>
              <TableCell title={each.email} sx={{ '&&': { maxWidth: 320 } }}>
                {each.email}
              </TableCell>
              <TableCell>
                <NativeSelect
                  value={each.level}
                  disabled={!isUnlocked || change.isPending}
                  inputProps={{ 'aria-label': `Level of ${each.email}` }}
                  onChange={(event) => change.mutate({ of: each.email, level: event.target.value as Level })}
                  sx={{ fontSize: '0.8rem' }}
                >
                  {levels.map((name) => (
                    <option key={name}>{name}</option>
                  ))}
                </NativeSelect>
              </TableCell>
              <TableCell>{each.active ? 'active' : '✗ deactivated'}</TableCell>
              <TableCell sx={{ '&&': { maxWidth: 'none' } }}>
                <Button
                  size="small"
                  disabled={!isUnlocked || change.isPending}
                  onClick={() => change.mutate({ of: each.email, active: !each.active })}
                >
                  {each.active ? 'Deactivate' : 'Let in again'}
                </Button>
                <Button
                  size="small"
                  disabled={!isUnlocked || renew.isPending}
                  onClick={() => {
                    invite.reset();
                    renew.mutate(each.email);
                  }}
                >
                  Link for a new password
                </Button>
              </TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      <Box
        component="form"
        onSubmit={submit}
        aria-label="New staff"
        sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}
      >
        <TextField
          size="small"
          type="email"
          label="Address"
          required
          value={email}
          onChange={(event) => setEmail(event.target.value)}
        />
        <NativeSelect
          value={level}
          inputProps={{ 'aria-label': 'Level' }}
          onChange={(event) => setLevel(event.target.value as Level)}
          sx={{ fontSize: '0.85rem' }}
        >
          {levels.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </NativeSelect>
        <Button type="submit" size="small" variant="outlined" disabled={!isUnlocked || invite.isPending}>
          Invite
        </Button>
        {!isUnlocked && (
          <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary' }}>
            Changed after an unlock.
          </Typography>
        )}
      </Box>
      {link !== undefined && (
        <Alert severity="success" variant="outlined">
          {link.email} chooses a password here, once, until {new Date(link.expires).toLocaleString()}:{' '}
          <code>{new URL(link.link, window.location.origin).href}</code>
        </Alert>
      )}
      {error !== null && (
        <ErrorNote error={error} {...(staff.isError ? { retry: () => void staff.refetch() } : {})} />
      )}
    </Box>
  );
}
