import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { gate } from '../../api/client.ts';
import { useHasLevel, useUnlocked } from '../../api/session.ts';
import { Choices } from '../../components/Choices.tsx';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';

/** Who was invited, and what came of it; and a way to invite more. */
export function InvitePanel({ roles }: { roles: readonly string[] }) {
  const queries = useQueryClient();
  const isUnlocked = useUnlocked();
  const mayInvite = useHasLevel('publisher');
  const [isAsking, setAsking] = useState(false);
  const invitations = useQuery({ queryKey: ['invitations'], queryFn: () => gate.invitations({ limit: 50 }) });
  const revoke = useMutation({
    mutationFn: (id: string) => gate.revokeInvitation(id),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['invitations'] }),
  });
  const all = invitations.data?.invitations ?? [];
  return (
    <Box component="section" aria-label="Invitations" sx={{ display: 'grid', gap: 0.75 }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
        <Typography variant="h2">Invitations</Typography>
        {mayInvite === true && (
          <Button size="small" variant="outlined" onClick={() => setAsking(true)}>
            Invite people
          </Button>
        )}
        {mayInvite === false && (
          <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem' }}>
            Inviting takes the level of a publisher.
          </Typography>
        )}
      </Box>
      {invitations.isError && (
        <ErrorNote error={invitations.error} retry={() => void invitations.refetch()} />
      )}
      {invitations.data !== undefined && all.length === 0 && (
        <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem' }}>Nobody was invited yet.</Typography>
      )}
      {all.length > 0 && (
        <DenseTable label="Invitations" heads={['address', 'roles', 'state', 'by', 'until', '']}>
          {all.map((each) => (
            <TableRow key={each.id}>
              <TableCell sx={{ '&&': { maxWidth: 280 } }} title={each.email}>
                {each.email}
              </TableCell>
              <TableCell>{each.roles.join(', ')}</TableCell>
              <TableCell>{each.state}</TableCell>
              <TableCell title={each.created_by}>{each.created_by}</TableCell>
              <TableCell>{new Date(each.expires_at).toLocaleDateString()}</TableCell>
              <TableCell>
                {(each.state === 'open' || each.state === 'not sent') && (
                  <Button
                    size="small"
                    disabled={!isUnlocked || revoke.isPending}
                    onClick={() => revoke.mutate(each.id)}
                  >
                    Take back
                  </Button>
                )}
              </TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      {revoke.isError && <ErrorNote error={revoke.error} />}
      {isAsking && <InviteDialog roles={roles} onClose={() => setAsking(false)} />}
    </Box>
  );
}

function InviteDialog({ roles, onClose }: { roles: readonly string[]; onClose: () => void }) {
  const queries = useQueryClient();
  const isUnlocked = useUnlocked();
  const [list, setList] = useState('');
  const [given, setGiven] = useState<readonly string[]>([]);
  const letter = useQuery({ queryKey: ['letter'], queryFn: () => gate.letter() });
  const preview = useQuery({
    queryKey: ['letter preview', letter.data],
    queryFn: () => gate.previewLetter(letter.data!),
    enabled: letter.data !== undefined,
  });
  const invite = useMutation({
    mutationFn: () => gate.invite({ list, roles: [...given] }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['invitations'] }),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    invite.mutate();
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="invite-title">
      <Box component="form" onSubmit={submit}>
        <DialogTitle id="invite-title">Invite people</DialogTitle>
        <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
          <TextField
            label="Addresses"
            required
            multiline
            minRows={3}
            maxRows={8}
            autoFocus
            value={list}
            helperText="Pasted, one a line, or CSV with a column “email”."
            onChange={(event) => setList(event.target.value)}
            sx={{ mt: 1 }}
          />
          <Choices label="Roles that they get" options={roles} chosen={given} onChange={setGiven} />
          {preview.data !== undefined && (
            <Box
              component="section"
              aria-label="The letter"
              tabIndex={0}
              sx={{
                border: 1,
                borderColor: 'divider',
                borderRadius: 1,
                p: 1,
                maxHeight: 180,
                overflow: 'auto',
              }}
            >
              <Typography sx={{ fontWeight: 650, fontSize: '0.82rem' }}>{preview.data.subject}</Typography>
              <Typography sx={{ whiteSpace: 'pre-wrap', fontSize: '0.8rem' }}>{preview.data.text}</Typography>
            </Box>
          )}
          {!isUnlocked && (
            <Alert severity="info" variant="outlined">
              Letters are sent after an unlock.
            </Alert>
          )}
          {(invite.error ?? letter.error ?? preview.error) !== null && (
            <ErrorNote error={invite.error ?? letter.error ?? preview.error} />
          )}
          {invite.data !== undefined && (
            <Alert severity={invite.data.bad.length === 0 ? 'success' : 'warning'} variant="outlined">
              {invite.data.sent} {invite.data.sent === 1 ? 'letter' : 'letters'} sent.
              {invite.data.bad.slice(0, 10).map(({ line, text, why }) => (
                <div key={line}>
                  Line {line}: {text} — {why}
                </div>
              ))}
            </Alert>
          )}
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Close</Button>
          <Button
            type="submit"
            variant="contained"
            disabled={!isUnlocked || list.trim() === '' || invite.isPending}
          >
            {invite.isPending ? 'Sending…' : 'Send the letters'}
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  );
}
