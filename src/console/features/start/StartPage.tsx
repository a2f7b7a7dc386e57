import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQueries, useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { Link } from 'react-router';
import type { Overview } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { Page } from '../../components/Page.tsx';
import { collectionsOf, gridOf, identitiesOf, trialCount } from '../../working/declare.ts';
import { WithWorking } from '../../working/WithWorking.tsx';
import { isChanged, type Working } from '../../working/working.ts';
import { stateOf } from '../collections/CollectionsPage.tsx';
import { nextStep, type Facts } from './next-step.ts';

/** What state the application is in, and what to do next. */
export function StartPage() {
  return <WithWorking>{(now) => <Start now={now} />}</WithWorking>;
}

function Start({ now }: { now: Working }) {
  const overview = useQuery({ queryKey: ['overview'], queryFn: () => gate.overview() });
  const history = useQuery({ queryKey: ['history', 'last'], queryFn: () => gate.history({ limit: 1 }) });
  const people = useQuery({
    queryKey: ['people', 'count'],
    queryFn: () => gate.people({ kind: 'people', limit: 1 }),
  });
  const invited = useQuery({
    queryKey: ['invitations', 'any'],
    queryFn: () => gate.invitations({ limit: 1 }),
  });
  // A sweep is of the rules that were in force when it ran.
  const sweeps = useQuery({
    queryKey: ['audit', 'sweeps'],
    queryFn: () => gate.audit({ action: 'proof.sweep', limit: 50 }),
  });
  const owned =
    overview.data?.collections.filter(({ owners, name }) => owners.length > 0 && name !== 'people') ?? [];
  const ownerless = useQueries({
    queries: owned.map(({ name }) => ({
      queryKey: ['ownerless', name],
      queryFn: () => gate.ownerless(name),
    })),
  });
  const all = useMemo(() => collectionsOf(now.texts), [now.texts]);
  const last = history.data?.versions[0];
  const sweptAt = sweeps.data?.entries.find(({ subject }) => subject === 'the rulebook in force')?.at;
  const without = new Map(
    ownerless.flatMap(({ data }) => (data === undefined ? [] : [[data.collection, data] as const])),
  );
  const lines = all
    .filter(({ name }) => name !== 'people')
    .map(({ name, title, owners }) => {
      const state = stateOf(gridOf(now.texts, name));
      const records = without.get(name);
      return { name, title, owners, state, records };
    });
  const facts: Facts = {
    version: overview.data?.version ?? null,
    isChanged: isChanged(now),
    collections: lines.map(({ name, state, owners, records }) => ({
      name,
      isClosed: state === 'closed',
      isOwned: owners.length > 0,
      without: records === undefined || records.accepted !== null ? 0 : records.without,
    })),
    identities: identitiesOf(now.texts).length,
    trials: trialCount(now.texts),
    failed: last === undefined ? 0 : (last.trials?.failed ?? null),
    isSwept: last !== undefined && sweptAt !== undefined && sweptAt > last.published_at,
    hasPeople: (people.data?.count ?? 0) > 0 || (invited.data?.invitations.length ?? 0) > 0,
  };
  const isKnown =
    [overview, history, people, invited, sweeps].every(({ data }) => data !== undefined) &&
    ownerless.every(({ data }) => data !== undefined);
  const error = [overview, history, people, invited, sweeps].find((each) => each.isError)?.error;
  const step = isKnown ? nextStep(facts) : null;
  return (
    <Page title="Start" about="What state the application is in, and what is sensible to do next.">
      {error !== undefined && <ErrorNote error={error} retry={() => void overview.refetch()} />}
      <Paper
        variant="outlined"
        component="section"
        aria-label="Next"
        sx={{
          p: 2,
          borderLeft: '4px solid',
          borderLeftColor: 'secondary.main',
          display: 'flex',
          gap: 2,
          alignItems: 'center',
        }}
      >
        <Box sx={{ flex: 1 }}>
          <Typography variant="h2">{step === null ? 'Looking …' : step.title}</Typography>
          <Typography sx={{ color: 'text.secondary', fontSize: '0.88rem' }}>{step?.why ?? ' '}</Typography>
        </Box>
        {step !== null && step.to !== null && (
          <Button variant="contained" component={Link} to={step.to}>
            {step.action}
          </Button>
        )}
      </Paper>
      <Box component="section" aria-label="Collections" sx={{ display: 'grid', gap: 0.5 }}>
        <Typography variant="h2">Collections</Typography>
        {lines.length === 0 ? (
          <Typography sx={{ color: 'text.secondary' }}>None yet.</Typography>
        ) : (
          <DenseTable
            label="Collections"
            heads={['collection', '', 'state', 'records', 'without owner']}
            numbers={['records', 'without owner']}
          >
            {lines.map(({ name, title, state, owners, records }) => (
              <TableRow key={name}>
                <TableCell sx={{ fontWeight: 600, '&&': { maxWidth: 340 } }}>
                  <Link to={`/bench/${name}`} style={{ color: 'inherit' }}>
                    {title ?? name}
                  </Link>
                </TableCell>
                <TableCell>
                  <code>{name}</code>
                </TableCell>
                <TableCell
                  sx={{
                    color:
                      state === 'guarded'
                        ? 'primary.main'
                        : state === 'closed'
                          ? 'text.secondary'
                          : 'secondary.main',
                    fontWeight: 600,
                  }}
                >
                  {state}
                  {isInForce(overview.data, name) ? '' : ', in the draft'}
                </TableCell>
                <TableCell align="right">{records?.total ?? ''}</TableCell>
                <TableCell align="right">
                  {owners.length === 0 ? (
                    'nobody owns it'
                  ) : records === undefined ? (
                    ''
                  ) : records.without === 0 ? (
                    '–'
                  ) : records.accepted === null ? (
                    <Link to={`/collections/${name}`} style={{ color: 'inherit', fontWeight: 650 }}>
                      {records.without}
                    </Link>
                  ) : (
                    `${records.without}, accepted`
                  )}
                </TableCell>
              </TableRow>
            ))}
          </DenseTable>
        )}
      </Box>
      <Box component="section" aria-label="In force" sx={{ display: 'grid', gap: 0.25 }}>
        <Typography variant="h2">In force</Typography>
        <Typography sx={{ fontSize: '0.88rem' }}>
          {last === undefined
            ? overview.data?.version === null
              ? 'Nothing is published yet: everything is closed.'
              : ' '
            : `Version ${last.version}, published ${new Date(last.published_at).toLocaleString()} by ${last.published_by}${last.message === null ? '' : `: ${last.message}`}. ${
                last.trials === null
                  ? 'Its trials were not run.'
                  : `Trials: ${last.trials.passed} of ${last.trials.passed + last.trials.failed} met.`
              }`}
        </Typography>
        {isKnown && (
          <Typography sx={{ fontSize: '0.88rem' }}>
            {facts.isSwept ? 'Swept since.' : 'Not swept since.'} {people.data?.count ?? 0} people,{' '}
            {facts.identities} test identities.
          </Typography>
        )}
      </Box>
    </Page>
  );
}

function isInForce(overview: Overview | undefined, name: string): boolean {
  return overview === undefined || overview.collections.some((each) => each.name === name);
}
