import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import type { GroupDocument, RolePreview } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { useUnlocked } from '../../api/session.ts';
import { Choices } from '../../components/Choices.tsx';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { NotDecided } from './NotDecided.tsx';

/** Groups that an identity provider keeps, and the roles that staff give to whoever is in one: looked at before they are saved. */
export function GroupsPanel({ roles }: { roles: readonly string[] }) {
  const [open, setOpen] = useState<GroupDocument | null>(null);
  const groups = useQuery({ queryKey: ['groups'], queryFn: () => gate.groups() });
  if (groups.data?.length === 0) return null;
  return (
    <Box component="section" aria-label="Groups" sx={{ display: 'grid', gap: 0.75 }}>
      <Typography variant="h2">Groups</Typography>
      {groups.isError && <ErrorNote error={groups.error} retry={() => void groups.refetch()} />}
      {groups.data !== undefined && (
        <DenseTable label="Groups" heads={['group', 'members', 'roles', '']} numbers={['members']}>
          {groups.data.map((group) => (
            <TableRow key={group.id} selected={group.id === open?.id}>
              <TableCell title={group.name} sx={{ '&&': { maxWidth: 320 } }}>
                {group.name}
              </TableCell>
              <TableCell align="right">{group.members}</TableCell>
              <TableCell sx={{ '&&': { maxWidth: 420 } }}>{group.roles.join(', ')}</TableCell>
              <TableCell>
                <Button
                  size="small"
                  aria-expanded={group.id === open?.id}
                  onClick={() => setOpen(group.id === open?.id ? null : group)}
                >
                  Roles…
                </Button>
              </TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      {open !== null && <GroupRoles key={open.id} group={open} roles={roles} onDone={() => setOpen(null)} />}
    </Box>
  );
}

function GroupRoles({
  group,
  roles,
  onDone,
}: {
  group: GroupDocument;
  roles: readonly string[];
  onDone: () => void;
}) {
  const queries = useQueryClient();
  const isUnlocked = useUnlocked();
  const [given, setGiven] = useState<readonly string[]>(group.roles);
  const isOther = given.toSorted().join() !== group.roles.toSorted().join();
  const preview = useQuery({
    queryKey: ['group preview', group.id, given],
    queryFn: () => gate.previewGroup(group.id, given),
    enabled: isOther,
  });
  const save = useMutation({
    mutationFn: () => gate.setGroupRoles(group.id, given),
    onSuccess: async () => {
      await queries.invalidateQueries();
      onDone();
    },
  });
  return (
    <Box
      role="group"
      aria-label={`Roles of ${group.name}`}
      sx={{ display: 'grid', gap: 1, p: 1.5, border: 1, borderColor: 'divider', borderRadius: 1 }}
    >
      <Choices label="Roles of its members" options={roles} chosen={given} onChange={setGiven} />
      {preview.isError && <ErrorNote error={preview.error} />}
      {preview.data !== undefined && isOther && <Told preview={preview.data} />}
      <Box sx={{ display: 'flex', gap: 1 }}>
        <Button
          size="small"
          variant="contained"
          disabled={!isUnlocked || !isOther || preview.data === undefined || save.isPending}
          onClick={() => save.mutate()}
        >
          Save
        </Button>
        <Button size="small" onClick={onDone}>
          Cancel
        </Button>
        {!isUnlocked && (
          <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary', alignSelf: 'center' }}>
            Saved after an unlock.
          </Typography>
        )}
      </Box>
      {save.isError && <ErrorNote error={save.error} />}
    </Box>
  );
}

/** What its members would gain and lose, in a line each. */
function Told({ preview: { people, left } }: { preview: RolePreview }) {
  const changed = people.filter(({ changes }) => changes.length > 0);
  const open = [...new Set(people.flatMap(({ undecided }) => undecided))];
  const isOpen = open.length > 0;
  return (
    <Alert severity="info" variant="outlined">
      {changed.length === 0
        ? `Its members may do neither more nor less by it${isOpen ? ', as far as that could be decided' : ''}.`
        : `${changed.length} of ${people.length} members are affected:`}
      {changed.slice(0, 8).map(({ id, name, email, changes }) => (
        <div key={id}>
          {name ?? email ?? id}:{' '}
          {changes
            .slice(0, 4)
            .map(({ collection, operation, records: { was, is } }) => {
              if (was === is) return `${operation} ${collection} with other fields`;
              if (operation === 'create') return `${is > 0 ? 'may' : 'may no longer'} create ${collection}`;
              return `${operation} ${collection} ${was} → ${is}`;
            })
            .join(', ')}
        </div>
      ))}
      <NotDecided what={open} />
      {left > 0 && <div>{left} members were not looked at.</div>}
    </Alert>
  );
}
