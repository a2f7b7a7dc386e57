import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import FormControl from '@mui/material/FormControl';
import InputLabel from '@mui/material/InputLabel';
import NativeSelect from '@mui/material/NativeSelect';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import Link from '@mui/material/Link';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link as RouterLink, useSearchParams } from 'react-router';
import type { PersonDocument } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { Page } from '../../components/Page.tsx';
import { GroupsPanel } from './GroupsPanel.tsx';
import { InvitePanel } from './InvitePanel.tsx';
import { SharesPanel } from './SharesPanel.tsx';
import { RoleChips } from './RoleChips.tsx';

const kinds = { people: 'People', 'test identities': 'Test identities', all: 'All' } as const;

/** The directory: who there is, with their roles and when these end. What is chosen stands in the address. */
export function PeoplePage() {
  const [chosen, setChosen] = useSearchParams();
  const search = chosen.get('search') ?? '';
  const role = chosen.get('role') ?? '';
  const state = chosen.get('state') ?? '';
  const kind = (chosen.get('kind') ?? 'people') as keyof typeof kinds;
  const roles = useQuery({ queryKey: ['roles'], queryFn: () => gate.roles() });
  const pages = useInfiniteQuery({
    queryKey: ['people', search, role, state, kind],
    queryFn: ({ pageParam }) =>
      gate.people({
        kind,
        ...(search.trim() === '' ? {} : { search }),
        ...(role === '' ? {} : { role }),
        ...(state === 'active' || state === 'deactivated' ? { state } : {}),
        ...(pageParam === null ? {} : { after: pageParam }),
      }),
    initialPageParam: null as string | null,
    getNextPageParam: ({ next }) => next,
    placeholderData: keepPreviousData,
  });
  const people = pages.data?.pages.flatMap((page) => page.people) ?? [];
  const count = pages.data?.pages[0]?.count ?? 0;
  const byHand = (roles.data ?? []).filter(({ held }) => held !== 'by condition').map(({ name }) => name);
  const choose = (name: string, value: string) =>
    setChosen(
      (before) => {
        const after = new URLSearchParams(before);
        if (value === '') after.delete(name);
        else after.set(name, value);
        return after;
      },
      { replace: true },
    );
  return (
    <Page
      title="People"
      about="Everybody whom the application knows, with the roles that they were given and when these end. Fields of the application’s own are seen through an identity."
    >
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'end', flexWrap: 'wrap' }}>
        <TextField
          size="small"
          label="Name or address"
          type="search"
          value={search}
          onChange={(event) => choose('search', event.target.value)}
        />
        <Choice
          label="Holds the role"
          value={role}
          options={[
            '',
            ...(roles.data ?? []).filter(({ held }) => held !== 'by condition').map(({ name }) => name),
          ]}
          words={{ '': 'any' }}
          onChoose={(value) => choose('role', value)}
        />
        <Choice
          label="State"
          value={state}
          options={['', 'active', 'deactivated']}
          words={{ '': 'any' }}
          onChoose={(value) => choose('state', value)}
        />
        <Choice
          label="Kind"
          value={kind}
          options={Object.keys(kinds)}
          words={kinds}
          onChoose={(value) => choose('kind', value === 'people' ? '' : value)}
        />
        <Typography role="status" sx={{ ml: 'auto', color: 'text.secondary', fontSize: '0.85rem' }}>
          {pages.isSuccess && `${people.length} of ${count}`}
        </Typography>
      </Box>
      {pages.isError && <ErrorNote error={pages.error} retry={() => void pages.refetch()} />}
      {pages.isSuccess && people.length === 0 && (
        <Typography>
          Nobody fits.{' '}
          {search !== '' || role !== '' || state !== ''
            ? 'Ask for less.'
            : 'Invite somebody below, or add them: firmgate people add EMAIL'}
        </Typography>
      )}
      {people.length > 0 && (
        <DenseTable label="People, by name" heads={['Name', 'Address', 'Roles', 'State']}>
          {people.map((person) => (
            <PersonRow key={person.id} person={person} />
          ))}
        </DenseTable>
      )}
      {pages.hasNextPage && (
        <Button
          sx={{ alignSelf: 'start' }}
          disabled={pages.isFetchingNextPage}
          onClick={() => void pages.fetchNextPage()}
        >
          More people
        </Button>
      )}
      <InvitePanel roles={byHand} />
      <GroupsPanel roles={byHand} />
      <SharesPanel />
    </Page>
  );
}

function PersonRow({ person }: { person: PersonDocument }) {
  return (
    <TableRow hover>
      <TableCell component="th" scope="row" sx={{ maxWidth: 220 }}>
        <Link component={RouterLink} to={`/people/${person.id}`} sx={{ fontWeight: 600 }}>
          {person.name ?? person.identity ?? person.email ?? person.id}
        </Link>
        {person.identity !== null && (
          <Typography component="span" sx={{ color: 'text.secondary', fontSize: '0.75rem', ml: 1 }}>
            test identity
          </Typography>
        )}
      </TableCell>
      <TableCell sx={{ maxWidth: 280 }}>{person.email ?? '—'}</TableCell>
      <TableCell sx={{ maxWidth: 460, whiteSpace: 'normal' }}>
        <RoleChips roles={person.roles} by_group={person.by_group} />
      </TableCell>
      <TableCell>{person.active ? 'active' : '✗ deactivated'}</TableCell>
    </TableRow>
  );
}

interface ChoiceProps {
  readonly label: string;
  readonly value: string;
  readonly options: readonly string[];
  readonly words: Readonly<Record<string, string>>;
  readonly onChoose: (value: string) => void;
}

function Choice({ label, value, options, words, onChoose }: ChoiceProps) {
  const id = `choice-${label.replaceAll(' ', '-')}`;
  return (
    <FormControl size="small" variant="standard" sx={{ minWidth: 130 }}>
      <InputLabel htmlFor={id} shrink>
        {label}
      </InputLabel>
      <NativeSelect value={value} inputProps={{ id }} onChange={(event) => onChoose(event.target.value)}>
        {options.map((option) => (
          <option key={option} value={option}>
            {words[option] ?? option}
          </option>
        ))}
      </NativeSelect>
    </FormControl>
  );
}
