import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Link as RouterLink, useParams } from 'react-router';
import type { PersonDetail } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { useUnlocked } from '../../api/session.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { Page } from '../../components/Page.tsx';
import { ReachTable } from './ReachTable.tsx';
import { periodWords, stateOf } from './RoleChips.tsx';
import { RoleDialog, type WantedChange } from './RoleDialog.tsx';

/** Somebody: who they are, which roles they have and until when, and everything that they can do. */
export function PersonPage() {
  const { person: id = '' } = useParams();
  const person = useQuery({ queryKey: ['person', id], queryFn: () => gate.person(id) });
  const reach = useQuery({ queryKey: ['person', id, 'reach'], queryFn: () => gate.personReach(id) });
  const name = person.data?.name ?? person.data?.identity ?? person.data?.email ?? id;
  return (
    <Page
      title={name}
      about="Who they are, which roles they have and until when, and everything that they can do."
    >
      <Link component={RouterLink} to="/people" sx={{ fontSize: '0.85rem' }}>
        ← All people
      </Link>
      {person.isError && <ErrorNote error={person.error} retry={() => void person.refetch()} />}
      {person.isPending && <Typography role="status">Loading…</Typography>}
      {person.isSuccess && <Facts person={person.data} />}
      <Section title="What they can do, and through what">
        {reach.isError && <ErrorNote error={reach.error} retry={() => void reach.refetch()} />}
        {reach.isPending && <Typography role="status">Counting…</Typography>}
        {reach.isSuccess && <ReachTable reach={reach.data} />}
      </Section>
    </Page>
  );
}

function Facts({ person }: { person: PersonDetail }) {
  const queries = useQueryClient();
  const isUnlocked = useUnlocked();
  const [wanted, setWanted] = useState<WantedChange | null>(null);
  const managed = person.identity !== null;
  const state = useMutation({
    mutationFn: () => gate.changePerson(person.id, { active: !person.active }),
    onSuccess: () => queries.invalidateQueries(),
  });
  const why = managed
    ? 'A test identity stands in the rulebook'
    : isUnlocked
      ? undefined
      : 'Unlock first, at the top of the page';
  const brought = person.held.filter((role) => !person.roles.some((each) => each.role === role));
  return (
    <>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'start', flexWrap: 'wrap' }}>
        <Box
          component="dl"
          sx={{
            m: 0,
            display: 'grid',
            gridTemplateColumns: '110px auto',
            columnGap: 2,
            fontSize: '0.85rem',
            flex: 1,
            '& dt': { color: 'text.secondary' },
            '& dd': { m: 0 },
          }}
        >
          <dt>Address</dt>
          <dd>
            {person.email ?? 'none'}
            {person.email !== null &&
              (person.email_verified ? ' ✓ verified' : ' — not verified: rules see none')}
          </dd>
          <dt>State</dt>
          <dd>{person.active ? 'active' : '✗ deactivated: every token of theirs is refused'}</dd>
          {person.logins.length > 0 && (
            <>
              <dt>Signs in as</dt>
              <dd>{person.logins.map(({ issuer, subject }) => `${subject} at ${issuer}`).join(', ')}</dd>
            </>
          )}
          {person.groups.length > 0 && (
            <>
              <dt>Groups</dt>
              <dd>
                {person.groups
                  .map((each) => `${each.name} (${each.roles.join(', ') || 'no role'})`)
                  .join(', ')}
              </dd>
            </>
          )}
          {brought.length > 0 && (
            <>
              <dt>Also holds</dt>
              <dd>{brought.join(', ')}, by a condition, a group or another role</dd>
            </>
          )}
        </Box>
        <span title={why}>
          <Button
            variant="outlined"
            color={person.active ? 'error' : 'primary'}
            disabled={why !== undefined || state.isPending}
            onClick={() => state.mutate()}
          >
            {person.active ? 'Deactivate' : 'Let in again'}
          </Button>
        </span>
      </Box>
      {state.isError && <ErrorNote error={state.error} />}
      <Section
        title="Roles given by hand"
        action={
          <Button
            size="small"
            variant="outlined"
            disabled={managed}
            title={managed ? why : undefined}
            onClick={() => setWanted({ give: null, take: null })}
          >
            Give a role
          </Button>
        }
      >
        {person.roles.length === 0 ? (
          <Typography sx={{ color: 'text.secondary' }}>None.</Typography>
        ) : (
          <DenseTable label="Roles given by hand" heads={['Role', 'Counts', 'Given by', 'On', '']}>
            {person.roles.map((each) => (
              <TableRow key={each.role}>
                <TableCell component="th" scope="row" sx={{ fontWeight: 600 }}>
                  {each.role}
                </TableCell>
                <TableCell sx={{ maxWidth: 260 }}>
                  {person.unknown.includes(each.role)
                    ? '✗ not known to the rulebook: counts for nothing'
                    : `${stateOf(each) === 'now' ? '✓ now' : stateOf(each) === 'later' ? '○ later' : '✗'} ${periodWords(each)}`}
                </TableCell>
                <TableCell sx={{ maxWidth: 240 }}>{each.given_by}</TableCell>
                <TableCell>{each.given_at.slice(0, 10)}</TableCell>
                <TableCell align="right">
                  <Button
                    size="small"
                    disabled={managed}
                    onClick={() => setWanted({ give: null, take: each.role })}
                  >
                    Take
                  </Button>
                </TableCell>
              </TableRow>
            ))}
          </DenseTable>
        )}
      </Section>
      {wanted !== null && <RoleDialog person={person} wanted={wanted} onClose={() => setWanted(null)} />}
    </>
  );
}

function Section({ title, action, children }: { title: string; action?: ReactNode; children: ReactNode }) {
  return (
    <Box component="section" aria-label={title} sx={{ display: 'flex', flexDirection: 'column', gap: 1 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2 }}>
        <Typography variant="h2">{title}</Typography>
        {action}
      </Box>
      {children}
    </Box>
  );
}
