import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { PersonDocument } from '../../../client/desk.ts';

type Assignment = PersonDocument['roles'][number];

/** When a role counts: each has a sign and a word beside its shade. */
export function stateOf({ starts, ends }: Assignment, now = Date.now()): 'now' | 'later' | 'ended' {
  if (ends !== null && Date.parse(ends) <= now) return 'ended';
  return starts !== null && Date.parse(starts) > now ? 'later' : 'now';
}

/** Such as “until 2026-10-31”; empty where it has no bounds. */
export function periodWords(each: Assignment): string {
  const state = stateOf(each);
  const parts = [
    state === 'later' ? `from ${each.starts!.slice(0, 10)}` : '',
    each.ends === null ? '' : `${state === 'ended' ? 'ended' : 'until'} ${each.ends.slice(0, 10)}`,
  ];
  return parts.filter((part) => part !== '').join(' ');
}

/** The roles of somebody, each with its end, or the group that it comes from. */
export function RoleChips({ roles, by_group: byGroup }: Pick<PersonDocument, 'roles' | 'by_group'>) {
  if (roles.length + byGroup.length === 0)
    return (
      <Typography component="span" sx={{ color: 'text.secondary', fontSize: 'inherit' }}>
        none
      </Typography>
    );
  return (
    <Box component="ul" sx={{ m: 0, p: 0, listStyle: 'none', display: 'flex', flexWrap: 'wrap', gap: 0.75 }}>
      {roles.map((each) => {
        const state = stateOf(each);
        return (
          <Box
            component="li"
            key={each.role}
            sx={{
              border: 1,
              borderColor: state === 'now' ? 'primary.main' : 'divider',
              borderStyle: state === 'later' ? 'dashed' : 'solid',
              borderRadius: 1,
              px: 0.75,
              color: state === 'ended' ? 'text.secondary' : 'text.primary',
              textDecoration: state === 'ended' ? 'line-through' : 'none',
            }}
          >
            {each.role}
            {periodWords(each) !== '' && (
              <Typography component="span" sx={{ fontSize: '0.72rem', ml: 0.5, color: 'text.secondary' }}>
                {periodWords(each)}
              </Typography>
            )}
          </Box>
        );
      })}
      {byGroup.map(({ role, group }) => (
        <Box
          component="li"
          key={`${role} ${group}`}
          sx={{ border: 1, borderColor: 'primary.main', borderRadius: 1, px: 0.75 }}
        >
          {role}
          <Typography component="span" sx={{ fontSize: '0.72rem', ml: 0.5, color: 'text.secondary' }}>
            in {group}
          </Typography>
        </Box>
      ))}
    </Box>
  );
}
