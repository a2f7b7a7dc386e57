import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import NativeSelect from '@mui/material/NativeSelect';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { memo, useDeferredValue, useMemo, useState, type FormEvent } from 'react';
import { GateProblem, type DraftDocument } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { countChanges } from '../../working/cards.ts';
import { sameTexts } from '../../working/texts.ts';
import { textsOfVersion } from '../../working/WithWorking.tsx';
import { isChanged, working, type Working } from '../../working/working.ts';

type Tagged = DraftDocument & { readonly tag: string };

/** What is being written: where it is saved, what it was made from, and the way back. */
export const DraftBar = memo(function DraftBar({
  now,
  inForce,
  canWrite,
}: {
  now: Working;
  inForce: number;
  canWrite: boolean;
}) {
  const queries = useQueryClient();
  const [asking, setAsking] = useState<'save' | 'move' | null>(null);
  const changed = isChanged(now);
  const texts = useDeferredValue(now.texts);
  const count = useMemo(
    () => (changed ? countChanges(now.baseTexts, texts) : 0),
    [changed, now.baseTexts, texts],
  );
  const isSaved = now.draft === null ? !changed : sameTexts(now.draft.texts, now.texts);
  const drafts = useQuery({ queryKey: ['drafts'], queryFn: async () => (await gate.drafts()).drafts });

  const adopt = async (draft: Tagged) => {
    const baseTexts = draft.base === now.base ? now.baseTexts : await textsOfVersion(draft.base);
    const saved = { name: draft.name, tag: draft.tag, texts: draft.files };
    // What was put together with somebody else's is another text than the one that was sent.
    if (sameTexts(draft.files, working.current()!.texts)) working.saved(saved, draft.base, baseTexts);
    else working.begin(draft.base, baseTexts, draft.files, saved);
    await queries.invalidateQueries({ queryKey: ['drafts'] });
  };
  const files = () => now.texts.map(({ name, text }) => ({ name, text }));
  const save = useMutation({
    mutationFn: async (name: string | null) =>
      name === null
        ? gate.saveDraft(now.draft!.name, now.draft!.tag, { files: files() })
        : gate.makeDraft({ name, files: files(), base: now.base }),
    onSuccess: async (draft) => {
      setAsking(null);
      await adopt(draft);
    },
  });
  const move = useMutation({
    mutationFn: async (name: string | null) => {
      const kept =
        name !== null
          ? await gate.makeDraft({ name, files: files(), base: now.base })
          : isSaved
            ? null
            : await gate.saveDraft(now.draft!.name, now.draft!.tag, { files: files() });
      if (kept !== null) await adopt(kept);
      return gate.rebaseDraft(name ?? now.draft!.name);
    },
    onSuccess: async (draft) => {
      setAsking(null);
      await adopt(draft);
    },
  });
  const open = useMutation({
    mutationFn: (name: string) => gate.draft(name),
    onSuccess: async (draft) => {
      const saved = { name: draft.name, tag: draft.tag, texts: draft.files };
      working.begin(draft.base, await textsOfVersion(draft.base), draft.files, saved);
    },
  });
  const leave = useMutation({
    mutationFn: () => textsOfVersion(inForce),
    onSuccess: (texts) => working.begin(inForce, texts),
  });
  const error = save.error ?? move.error ?? open.error ?? leave.error;
  const isConflict =
    error instanceof GateProblem && /draft-conflict|changed-meanwhile|not-found/.test(error.problem.type);
  const isBehind = now.base !== inForce && (changed || now.draft !== null);
  const isBusy = save.isPending || move.isPending || open.isPending || leave.isPending;
  return (
    <Box component="section" aria-label="Draft" sx={{ display: 'grid', gap: 0.5 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 0.5, flexWrap: 'wrap', minHeight: 30 }}>
        <NativeSelect
          value={now.draft?.name ?? ''}
          disabled={isBusy}
          inputProps={{ 'aria-label': 'Draft that is open' }}
          onChange={(event) => (event.target.value === '' ? leave.mutate() : open.mutate(event.target.value))}
          sx={{ fontSize: '0.8rem', maxWidth: 170 }}
        >
          <option value="" disabled={!isSaved}>
            {changed && now.draft === null ? 'a draft without a name' : `version ${inForce}, in force`}
          </option>
          {now.draft !== null && !drafts.data?.some(({ name }) => name === now.draft!.name) && (
            <option value={now.draft.name}>{now.draft.name}</option>
          )}
          {drafts.data?.map(({ name }) => (
            <option key={name} value={name} disabled={!isSaved && name !== now.draft?.name}>
              draft {name}
            </option>
          ))}
        </NativeSelect>
        {canWrite && (
          <Box sx={{ display: 'flex', gap: 0.25, ml: 'auto' }}>
            <Button
              size="small"
              disabled={!now.canUndo}
              onClick={() => working.undo()}
              title="Undo (Ctrl+Z)"
              aria-label="Undo"
            >
              <Turn back />
            </Button>
            <Button
              size="small"
              disabled={!now.canRedo}
              onClick={() => working.redo()}
              title="Redo (Ctrl+Shift+Z)"
              aria-label="Redo"
            >
              <Turn />
            </Button>
            {(changed || now.draft !== null) && (
              <Button
                size="small"
                variant="outlined"
                disabled={isSaved || isBusy}
                onClick={() => (now.draft === null ? setAsking('save') : save.mutate(null))}
              >
                {save.isPending ? 'Saving…' : isSaved ? 'Saved' : 'Save'}
              </Button>
            )}
            {changed && now.draft === null && (
              <Button size="small" color="error" disabled={isBusy} onClick={() => leave.mutate()}>
                Drop
              </Button>
            )}
          </Box>
        )}
      </Box>
      <Typography
        component="span"
        role="status"
        sx={{ fontSize: '0.75rem', lineHeight: 1.2, color: 'text.secondary', '&:empty': { display: 'none' } }}
      >
        {count > 0 && `${count} ${count === 1 ? 'change' : 'changes'} on version ${now.base}`}
        {!isSaved && (now.isKept ? ' · not saved' : ' · not saved, and the browser has no room to keep it')}
      </Typography>
      {isBehind && (
        <Alert
          severity="warning"
          variant="outlined"
          sx={{ py: 0 }}
          action={
            canWrite && (
              <Button
                size="small"
                color="inherit"
                disabled={isBusy}
                onClick={() => (now.draft === null ? setAsking('move') : move.mutate(null))}
              >
                Move onto version {inForce}
              </Button>
            )
          }
        >
          Version {inForce} was published meanwhile; this was made from version {now.base}.
        </Alert>
      )}
      {now.offered.slice(0, 3).map((kept) => (
        <Alert
          key={kept.id}
          severity="info"
          variant="outlined"
          sx={{ py: 0 }}
          action={
            <>
              <Button
                size="small"
                color="inherit"
                disabled={changed && !isSaved}
                onClick={() => void textsOfVersion(kept.base).then((texts) => working.takeUp(kept, texts))}
              >
                Take it up
              </Button>
              <Button size="small" color="inherit" onClick={() => working.drop(kept)}>
                Drop it
              </Button>
            </>
          }
        >
          Text that was not saved is still here, from {new Date(kept.at).toLocaleString()}
          {kept.draft === null ? '' : ` (draft ${kept.draft.name})`}.
        </Alert>
      ))}
      {error !== null && (
        <Box>
          <ErrorNote error={error} />
          {isConflict && canWrite && (
            <Button size="small" onClick={() => setAsking('save')}>
              Save mine under another name
            </Button>
          )}
        </Box>
      )}
      <NameDialog
        open={asking !== null}
        title={asking === 'move' ? 'Save it, and move it' : 'Save the draft'}
        error={asking === 'move' ? move.error : save.error}
        isBusy={isBusy}
        onClose={() => setAsking(null)}
        onName={(name) => (asking === 'move' ? move.mutate(name) : save.mutate(name))}
      />
    </Box>
  );
});

/** An arrow that turns back, or on again. */
function Turn({ back = false }: { back?: boolean }) {
  return (
    <svg
      aria-hidden
      width="15"
      height="15"
      viewBox="0 0 15 15"
      style={back ? {} : { transform: 'scaleX(-1)' }}
    >
      <path
        d="M5.5 3 L2.5 6 L5.5 9 M2.8 6 H9 a3.3 3.3 0 0 1 0 6.6 H6"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.6"
        strokeLinecap="round"
        strokeLinejoin="round"
      />
    </svg>
  );
}

function NameDialog({
  open,
  title,
  error,
  isBusy,
  onClose,
  onName,
}: {
  open: boolean;
  title: string;
  error: unknown;
  isBusy: boolean;
  onClose: () => void;
  onName: (name: string) => void;
}) {
  const [name, setName] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onName(name);
  };
  return (
    <Dialog open={open} onClose={onClose} fullWidth maxWidth="xs" aria-labelledby="draft-title">
      <Box component="form" onSubmit={submit}>
        <DialogTitle id="draft-title">{title}</DialogTitle>
        <DialogContent sx={{ display: 'grid', gap: 2 }}>
          <Typography sx={{ color: 'text.secondary' }}>
            Others who may write rules see it, and can work on it with you. Nothing is in force before it is
            published.
          </Typography>
          <TextField
            label="Name"
            required
            autoFocus
            value={name}
            helperText="Small letters, digits and hyphens, such as “autumn”."
            slotProps={{ htmlInput: { pattern: '[a-z0-9]([a-z0-9\\-]{0,58}[a-z0-9])?' } }}
            onChange={(event) => setName(event.target.value)}
          />
          {error !== null && error !== undefined && <ErrorNote error={error} />}
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={isBusy}>
            Save
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  );
}
