import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState, type FormEvent } from 'react';
import type { SessionDocument } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { FRAME } from '../../theme.ts';
import { Padlock } from '../../components/Padlock.tsx';

/** At the top of every page: whether what is in force can be changed now, why, and for how long. */
export function UnlockControl({ session }: { session: SessionDocument }) {
  const queries = useQueryClient();
  const [isAsking, setAsking] = useState(false);
  const minutes = useMinutesLeft(session.unlock?.ends ?? null, () => again());
  const lock = useMutation({ mutationFn: () => gate.lock(), onSettled: () => again() });
  if (session.level !== 'publisher' && session.level !== 'manager') return null;
  if (session.unlock === null || minutes === null) {
    return (
      <>
        <Button
          size="small"
          color="inherit"
          variant="outlined"
          startIcon={<Padlock open={false} />}
          onClick={() => setAsking(true)}
        >
          Unlock
        </Button>
        <UnlockDialog open={isAsking} onClose={() => setAsking(false)} />
      </>
    );
  }
  return (
    <Box
      role="status"
      aria-label="Unlocked"
      sx={{
        display: 'flex',
        alignItems: 'center',
        gap: 1,
        minWidth: 150,
        flexShrink: 1,
        '& svg': { flexShrink: 0 },
        whiteSpace: 'nowrap',
        pl: 1.25,
        bgcolor: FRAME.honey,
        color: FRAME.ink,
        borderRadius: 1,
      }}
    >
      <Padlock open />
      <Typography
        component="span"
        title={session.unlock.reason}
        noWrap
        sx={{ fontSize: '0.8rem', maxWidth: 260, minWidth: 48 }}
      >
        {minutes} min · {session.unlock.reason}
      </Typography>
      <Button size="small" color="inherit" sx={{ flexShrink: 0 }} onClick={() => lock.mutate()}>
        Lock
      </Button>
    </Box>
  );

  function again() {
    void queries.invalidateQueries({ queryKey: ['session'] });
  }
}

function UnlockDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  const queries = useQueryClient();
  const [reason, setReason] = useState('');
  const [minutes, setMinutes] = useState('30');
  const unlock = useMutation({
    mutationFn: () => gate.unlock(reason, Number(minutes)),
    onSuccess: () => {
      setReason('');
      onClose();
      return queries.invalidateQueries({ queryKey: ['session'] });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    unlock.mutate();
  };
  return (
    <Dialog open={open} onClose={onClose} fullWidth maxWidth="xs" aria-labelledby="unlock-title">
      <Box component="form" onSubmit={submit}>
        <DialogTitle id="unlock-title">Change what is in force</DialogTitle>
        <DialogContent sx={{ display: 'grid', gap: 2 }}>
          <Typography sx={{ color: 'text.secondary' }}>
            For a while you can publish, and change roles, shares, keys and staff. Each change is in the audit
            trail with this reason.
          </Typography>
          <TextField
            label="Reason"
            required
            autoFocus
            helperText="In a few words, such as “Mina leads the north crew”."
            value={reason}
            onChange={(event) => setReason(event.target.value)}
          />
          <TextField
            label="Minutes"
            type="number"
            required
            slotProps={{ htmlInput: { min: 1, max: 60 } }}
            value={minutes}
            onChange={(event) => setMinutes(event.target.value)}
          />
          {unlock.isError && <ErrorNote error={unlock.error} />}
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={unlock.isPending}>
            Unlock
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  );
}

/** Whole minutes until then, counted down; null once it is over, which is told once. */
function useMinutesLeft(ends: string | null, onOver: () => void): number | null {
  const [now, setNow] = useState(() => Date.now());
  const left = ends === null ? 0 : Date.parse(ends) - now;
  useEffect(() => {
    if (ends === null) return undefined;
    setNow(Date.now());
    const timer = setInterval(() => {
      setNow(Date.now());
      if (Date.now() >= Date.parse(ends)) {
        clearInterval(timer);
        onOver();
      }
    }, 5_000);
    return () => clearInterval(timer);
    // Another unlock is another countdown; the rest is the same.
    // oxlint-disable-next-line react-hooks/exhaustive-deps
  }, [ends]);
  return left > 0 ? Math.ceil(left / 60_000) : null;
}
