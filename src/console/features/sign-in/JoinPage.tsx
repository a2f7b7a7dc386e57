import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { useNavigate } from 'react-router';
import { gate } from '../../api/client.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { DoorFrame } from './DoorFrame.tsx';

/** Whoever has a one-time link chooses a password here. The secret is behind the #, and leaves the address at once. */
export function JoinPage() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [secret] = useState(() => window.location.hash.slice(1));
  const [email, setEmail] = useState('');
  const [password, setPassword] = useState('');
  const join = useMutation({
    mutationFn: () => gate.join(secret, password, email === '' ? undefined : email),
    onSuccess: (session) => {
      queries.setQueryData(['session'], session);
      void navigate('/look', { replace: true });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    join.mutate();
  };
  return (
    <DoorFrame
      title="Join Firm Gate"
      about="Choose the password that you will sign in with. This link works once."
    >
      <Box component="form" onSubmit={submit} sx={{ display: 'grid', gap: 2 }}>
        <TextField
          label="E-mail address"
          type="email"
          autoComplete="username"
          helperText="The first manager gives their own; any other link has its address already, and this may stay empty."
          value={email}
          onChange={(event) => setEmail(event.target.value)}
        />
        <TextField
          label="New password"
          type="password"
          autoComplete="new-password"
          helperText="12 characters or more."
          required
          autoFocus
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
        <Button type="submit" variant="contained" size="large" disabled={join.isPending || secret === ''}>
          {join.isPending ? 'Joining…' : 'Join'}
        </Button>
        <div role="alert">
          {secret === '' && (
            <Typography sx={{ color: 'error.main' }}>
              The link is not whole: open it just as it was sent, with the part behind the #.
            </Typography>
          )}
          {join.isError && <ErrorNote error={join.error} />}
        </div>
      </Box>
    </DoorFrame>
  );
}
