import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import LinearProgress from '@mui/material/LinearProgress';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { useNavigate } from 'react-router';
import type { Preview, PreviewRequest, Progress, PublishedDocument, Version } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { useSession, useUnlocked } from '../../api/session.ts';
import { TrialsFigure } from '../../charts/Figures.tsx';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { Page } from '../../components/Page.tsx';
import { WithWorking, textsOfVersion } from '../../working/WithWorking.tsx';
import { isChanged, working, type Working } from '../../working/working.ts';
import { PreviewView } from './PreviewView.tsx';
import { Foreseen } from './Foreseen.tsx';
import { PublishForm, type Shown } from './PublishForm.tsx';

/** What is about to change, and what changed. */
export function ChangesPage() {
  return <WithWorking>{(now, inForce) => <Changes now={now} inForce={inForce} />}</WithWorking>;
}

function Changes({ now, inForce }: { now: Working; inForce: number }) {
  const [published, setPublished] = useState<PublishedDocument | null>(null);
  return (
    <Page
      title="Changes"
      about="What a draft would do before it is in force, what was published, and the way back."
    >
      {published !== null && (
        <Alert severity="success" variant="outlined" onClose={() => setPublished(null)}>
          {published.changed
            ? `Version ${published.version} is in force.`
            : `The very same was in force already, as version ${published.version}.`}{' '}
          {[...published.setAside.map((name) => `${name} is set aside, and kept.`), ...published.notes].join(
            ' ',
          )}
        </Alert>
      )}
      <InTheMaking now={now} inForce={inForce} onPublished={setPublished} />
      <Drafts now={now} />
      <History inForce={inForce} onPublished={setPublished} />
    </Page>
  );
}

function InTheMaking({
  now,
  inForce,
  onPublished,
}: {
  now: Working;
  inForce: number;
  onPublished: (published: PublishedDocument) => void;
}) {
  const navigate = useNavigate();
  const isUnlocked = useUnlocked();
  const [shown, setShown] = useState<Shown>('not yet');
  const files = now.texts.map(({ name, text }) => ({ name, text }));
  if (!isChanged(now))
    return (
      <Typography sx={{ color: 'text.secondary' }}>
        Nothing is being written that is not in force.{' '}
        <Button size="small" onClick={() => void navigate('/bench')}>
          Go to the bench
        </Button>
      </Typography>
    );
  const isBehind = now.base !== inForce;
  return (
    <Box component="section" aria-label="In the making" sx={{ display: 'grid', gap: 1.5 }}>
      <Typography variant="h2">
        {now.draft === null ? 'A draft without a name' : `Draft ${now.draft.name}`}, made from version{' '}
        {now.base}
      </Typography>
      {isBehind && (
        <Alert severity="warning" variant="outlined">
          Version {inForce} is in force meanwhile. Move the draft onto it at the bench first: this would undo
          what it changed.
        </Alert>
      )}
      <PreviewOf request={{ files }} revision={`${now.revision} ${isUnlocked}`} onShown={setShown} />
      {!isBehind && (
        <PublishForm
          what={{ files, base: now.base }}
          preview={shown}
          action="Publish"
          onPublished={(done) => {
            working.begin(done.version, now.texts, now.texts, now.draft);
            onPublished(done);
          }}
        />
      )}
    </Box>
  );
}

/** Asked for at once, and again where what it is about changes. `onShown`: what is published is what was looked at. */
function PreviewOf({
  request,
  revision,
  onShown,
}: {
  request: PreviewRequest;
  revision: string;
  onShown: (shown: Shown) => void;
}) {
  const [progress, setProgress] = useState<Progress | null>(null);
  const preview = useQuery<Preview>({
    queryKey: ['preview', revision],
    queryFn: () => gate.preview(request, setProgress),
    refetchOnWindowFocus: false,
    staleTime: 60_000,
  });
  const shown = preview.isError ? null : (preview.data?.digest ?? 'not yet');
  useEffect(() => onShown(shown), [onShown, shown]);
  if (preview.isError) return <ErrorNote error={preview.error} retry={() => void preview.refetch()} />;
  if (preview.data !== undefined) return <PreviewView preview={preview.data} />;
  return (
    <Box role="status" aria-label="Finding out what it does" sx={{ maxWidth: 480 }}>
      <LinearProgress
        aria-label="Progress"
        {...(progress === null
          ? {}
          : { variant: 'determinate' as const, value: (100 * progress.done) / Math.max(1, progress.total) })}
      />
      <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary' }}>
        {progress === null ? 'Beginning' : `${progress.done} of ${progress.total}: ${progress.doing}`}
      </Typography>
    </Box>
  );
}

function Drafts({ now }: { now: Working }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const session = useSession();
  const drafts = useQuery({ queryKey: ['drafts'], queryFn: async () => (await gate.drafts()).drafts });
  const remove = useMutation({
    mutationFn: (name: string) => gate.deleteDraft(name),
    onSuccess: (_, name) => {
      if (now.draft?.name === name) working.saved(null, now.base, now.baseTexts);
      return queries.invalidateQueries({ queryKey: ['drafts'] });
    },
  });
  const open = useMutation({
    mutationFn: async (name: string) => {
      const draft = await gate.draft(name);
      working.begin(draft.base, await textsOfVersion(draft.base), draft.files, {
        name,
        tag: draft.tag,
        texts: draft.files,
      });
    },
    onSuccess: () => navigate('/bench'),
  });
  const canWrite = session.data !== undefined && session.data.level !== 'viewer';
  const isUnsaved = isChanged(now) && now.draft === null;
  return (
    <Box component="section" aria-label="Drafts" sx={{ display: 'grid', gap: 0.5 }}>
      <Typography variant="h2">Drafts</Typography>
      {drafts.isError && <ErrorNote error={drafts.error} retry={() => void drafts.refetch()} />}
      {drafts.data?.length === 0 && (
        <Typography sx={{ color: 'text.secondary' }}>
          None. What is saved at the bench stands here, for everybody who may write rules.
        </Typography>
      )}
      {drafts.data !== undefined && drafts.data.length > 0 && (
        <DenseTable
          label="Drafts"
          heads={['draft', 'made from', 'last saved', 'by', 'note', '']}
          numbers={['made from']}
        >
          {drafts.data.map((draft) => (
            <TableRow key={draft.name} selected={draft.name === now.draft?.name}>
              <TableCell>{draft.name}</TableCell>
              <TableCell align="right">{draft.base === 0 ? 'nothing' : `version ${draft.base}`}</TableCell>
              <TableCell>{new Date(draft.saved_at).toLocaleString()}</TableCell>
              <TableCell title={draft.saved_by}>{draft.saved_by}</TableCell>
              <TableCell title={draft.message ?? undefined}>{draft.message}</TableCell>
              <TableCell sx={{ '&&': { maxWidth: 'none' } }}>
                <Button
                  size="small"
                  disabled={isUnsaved || open.isPending}
                  title={isUnsaved ? 'Save or drop what is being written first' : undefined}
                  onClick={() => open.mutate(draft.name)}
                >
                  Open
                </Button>
                {canWrite && (
                  <Button
                    size="small"
                    color="error"
                    disabled={remove.isPending}
                    onClick={() => remove.mutate(draft.name)}
                  >
                    Delete
                  </Button>
                )}
              </TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      {(remove.error ?? open.error) !== null && <ErrorNote error={remove.error ?? open.error} />}
    </Box>
  );
}

function History({
  inForce,
  onPublished,
}: {
  inForce: number;
  onPublished: (published: PublishedDocument) => void;
}) {
  const [chosen, setChosen] = useState<Version | null>(null);
  const [shown, setShown] = useState<Shown>('not yet');
  const isUnlocked = useUnlocked();
  const history = useQuery({ queryKey: ['history', inForce], queryFn: () => gate.history({ limit: 50 }) });
  return (
    <Box component="section" aria-label="History" sx={{ display: 'grid', gap: 0.5 }}>
      <Typography variant="h2">History</Typography>
      {history.isError && <ErrorNote error={history.error} retry={() => void history.refetch()} />}
      {history.data?.versions.length === 0 && (
        <Typography sx={{ color: 'text.secondary' }}>Nothing was published yet.</Typography>
      )}
      <TrialsFigure
        versions={(history.data?.versions ?? []).flatMap(({ version, trials }) =>
          trials === null ? [] : [{ version, ...trials }],
        )}
      />
      {history.data !== undefined && history.data.versions.length > 0 && (
        <DenseTable
          label="Versions"
          heads={['version', 'published', 'by', 'what changed', 'trials', '']}
          numbers={['version']}
        >
          {history.data.versions.map((version) => (
            <TableRow key={version.version} selected={version.version === chosen?.version}>
              <TableCell align="right">{version.version}</TableCell>
              <TableCell>{new Date(version.published_at).toLocaleString()}</TableCell>
              <TableCell title={version.published_by}>{version.published_by}</TableCell>
              <TableCell title={version.message ?? undefined} sx={{ '&&': { maxWidth: 360 } }}>
                {version.restores === null ? '' : `restores version ${version.restores} `}
                {version.message}
              </TableCell>
              <TableCell>
                {version.trials === null
                  ? 'not run'
                  : `${version.trials.passed} of ${version.trials.passed + version.trials.failed}`}
              </TableCell>
              <TableCell sx={{ '&&': { maxWidth: 'none' } }}>
                {version.version === inForce ? (
                  <strong>in force</strong>
                ) : (
                  <Button
                    size="small"
                    aria-expanded={version.version === chosen?.version}
                    onClick={() => setChosen(version.version === chosen?.version ? null : version)}
                  >
                    Go back to it…
                  </Button>
                )}
              </TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      {chosen !== null && (
        <Box
          component="section"
          aria-label={`Version ${chosen.version}`}
          sx={{ display: 'grid', gap: 1, mt: 1, p: 1.5, border: 1, borderColor: 'divider', borderRadius: 1 }}
        >
          <Foreseen version={chosen.version} />
          <Typography variant="h2">Version {chosen.version} again: what it would do now</Typography>
          <PreviewOf
            onShown={setShown}
            request={{ restores: chosen.version }}
            revision={`restore ${chosen.version} ${inForce} ${isUnlocked}`}
          />
          <PublishForm
            what={{ restores: chosen.version, base: inForce }}
            preview={shown}
            action={`Restore version ${chosen.version}`}
            onPublished={async (done) => {
              const state = working.current()!;
              // What is being written stays; where nothing is, it goes along.
              if (!isChanged(state)) working.begin(done.version, await textsOfVersion(done.version));
              setChosen(null);
              onPublished(done);
            }}
          />
        </Box>
      )}
    </Box>
  );
}
