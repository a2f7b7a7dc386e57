import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { gate } from '../api/client.ts';

/** Runs that are looked through, as those of drafts are among them. */
const MOST = 50;

/** What stands below a report before it is run: nothing to run, or when it ran last. `action`: as the trail names it. */
export function BeforeRun({ action }: { action: 'proof.trials' | 'proof.sweep' | 'proof.mutate' }) {
  const history = useQuery({ queryKey: ['history', 'last'], queryFn: () => gate.history({ limit: 1 }) });
  const runs = useQuery({
    queryKey: ['audit', action],
    queryFn: () => gate.audit({ action, limit: MOST }),
  });
  if (history.data === undefined || runs.data === undefined) return null;
  const [version] = history.data.versions;
  if (version === undefined)
    return (
      <Typography sx={{ color: 'text.secondary' }}>
        Nothing is published yet, so there is nothing to run.{' '}
        <Button size="small" component={Link} to="/start">
          What to do first
        </Button>
      </Typography>
    );
  const last = runs.data.entries.find(({ subject }) => subject === 'the rulebook in force');
  const { trials } = version;
  return (
    <>
      {action === 'proof.trials' && trials !== null && (
        <Typography>
          {trials.passed + trials.failed === 0
            ? 'The rulebook had no trials when it was published. What is tried at the bench can be kept as one.'
            : `When version ${version.version} was published, ${trials.passed} of its ${trials.passed + trials.failed} expectations were met.`}
        </Typography>
      )}
      <Typography sx={{ color: 'text.secondary', fontSize: '0.88rem' }}>
        {last === undefined
          ? `Not run yet${runs.data.entries.length === MOST ? `, as far as the last ${MOST} runs tell` : ''}.`
          : `Run last ${new Date(last.at).toLocaleString()} by ${last.actor}${last.at > version.published_at ? '' : ', before this version was published'}.`}
      </Typography>
    </>
  );
}
