import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { GateProblem, type Publication, type PublishedDocument } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { useSession, useUnlocked } from '../../api/session.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';

/** The digest of the preview that stands above; null: none can be had. */
export type Shown = 'not yet' | (string & {}) | null;

/** Puts a draft in force, as its preview shows it. It takes an unlock; where trials fail, a reason. */
export function PublishForm({
  what,
  preview,
  action,
  onPublished,
}: {
  what: Pick<Publication, 'files' | 'restores' | 'base'>;
  preview: Shown;
  action: string;
  onPublished: (published: PublishedDocument) => void | Promise<void>;
}) {
  const queries = useQueryClient();
  const session = useSession();
  const isUnlocked = useUnlocked();
  const [message, setMessage] = useState('');
  const [despite, setDespite] = useState('');
  const publish = useMutation({
    mutationFn: () =>
      gate.publish({
        ...what,
        ...(preview === null ? {} : { preview }),
        ...(message.trim() === '' ? {} : { message: message.trim() }),
        ...(despite.trim() === '' ? {} : { despite: despite.trim() }),
      }),
    onSuccess: async (published) => {
      await onPublished(published);
      // Everything that was found out before was of other rules.
      await queries.invalidateQueries();
    },
    onError: async (error) => {
      // What was looked at is a day old, or of another version: it is asked for anew.
      if (isProblem(error, 'other-preview')) await queries.invalidateQueries({ queryKey: ['preview'] });
    },
  });
  const haveFailed = isProblem(publish.error, 'trials-failed');
  const level = session.data?.level;
  if (level !== 'publisher' && level !== 'manager')
    return (
      <Typography sx={{ color: 'text.secondary' }}>
        Publishing takes the level of a publisher: ask one to look at this.
      </Typography>
    );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    publish.mutate();
  };
  return (
    <Box component="form" onSubmit={submit} sx={{ display: 'grid', gap: 1, maxWidth: 760 }}>
      <Box sx={{ display: 'flex', gap: 1, alignItems: 'flex-start' }}>
        <TextField
          size="small"
          label="What changes, in a line"
          value={message}
          onChange={(event) => setMessage(event.target.value)}
          slotProps={{ htmlInput: { maxLength: 500 } }}
          sx={{ flex: 1 }}
        />
        <Button
          type="submit"
          variant="contained"
          disabled={!isUnlocked || publish.isPending || preview === 'not yet'}
          sx={{ minHeight: 37 }}
        >
          {publish.isPending ? 'Publishing…' : action}
        </Button>
      </Box>
      {!isUnlocked && (
        <Alert severity="info" variant="outlined" sx={{ py: 0 }}>
          What is in force can be changed after an unlock: the button at the top of the page asks for the
          reason.
        </Alert>
      )}
      {haveFailed && (
        <TextField
          size="small"
          label="Publish all the same, because"
          value={despite}
          onChange={(event) => setDespite(event.target.value)}
          helperText="The reason is kept in the audit trail, with the trials that failed."
          slotProps={{ htmlInput: { maxLength: 500 } }}
        />
      )}
      {publish.isError && <ErrorNote error={publish.error} />}
    </Box>
  );
}

function isProblem(error: Error | null, type: string): boolean {
  return error instanceof GateProblem && error.problem.type.endsWith(`/${type}`);
}
