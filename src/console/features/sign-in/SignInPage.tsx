import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { gate, isSignedOut } from '../../api/client.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { DoorFrame } from './DoorFrame.tsx';

/** Staff sign in with address and password. Which of the two was wrong is not told. */
export function SignInPage() {
  const queries = useQueryClient();
  const [email, setEmail] = useState('');
  const [password, setPassword] = useState('');
  const signIn = useMutation({
    mutationFn: () => gate.signIn(email, password),
    onSuccess: (staff) => queries.setQueryData(['session'], staff),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate();
  };
  return (
    <DoorFrame title="Firm Gate" about="Sign in as staff, to look at records through the eyes of your users.">
      <Box component="form" onSubmit={submit} sx={{ display: 'grid', gap: 2 }}>
        <TextField
          label="E-mail address"
          type="email"
          autoComplete="username"
          required
          autoFocus
          value={email}
          onChange={(event) => setEmail(event.target.value)}
        />
        <TextField
          label="Password"
          type="password"
          autoComplete="current-password"
          required
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
        <Button type="submit" variant="contained" size="large" disabled={signIn.isPending}>
          {signIn.isPending ? 'Signing in…' : 'Sign in'}
        </Button>
        <div role="alert">
          {signIn.isError &&
            (isSignedOut(signIn.error) ? (
              <Typography sx={{ color: 'error.main' }}>
                Address or password is wrong. The demo prints both when it starts.
              </Typography>
            ) : (
              <ErrorNote error={signIn.error} />
            ))}
        </div>
      </Box>
    </DoorFrame>
  );
}
