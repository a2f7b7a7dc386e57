import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { gate } from '../../api/client.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';

/** Another password of one’s own: every other session of the account ends. */
export function PasswordPanel() {
  const [password, setPassword] = useState('');
  const [wanted, setWanted] = useState('');
  const change = useMutation({
    mutationFn: () => gate.changePassword(password, wanted),
    onSuccess: () => {
      setPassword('');
      setWanted('');
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate();
  };
  return (
    <Box component="section" aria-label="Your password" sx={{ display: 'grid', gap: 0.75 }}>
      <Typography variant="h2">Your password</Typography>
      <Box component="form" onSubmit={submit} sx={{ display: 'flex', gap: 1, flexWrap: 'wrap' }}>
        <TextField
          size="small"
          type="password"
          autoComplete="current-password"
          label="Password now"
          required
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
        <TextField
          size="small"
          type="password"
          autoComplete="new-password"
          label="Another one"
          required
          value={wanted}
          onChange={(event) => setWanted(event.target.value)}
        />
        <Button type="submit" size="small" variant="outlined" disabled={change.isPending}>
          Change it
        </Button>
      </Box>
      {change.isSuccess && (
        <Alert severity="success" variant="outlined">
          Changed. Every other session of yours has ended.
        </Alert>
      )}
      {change.isError && <ErrorNote error={change.error} />}
    </Box>
  );
}
