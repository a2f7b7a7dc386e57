import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useState, type FormEvent } from 'react';
import { Choices } from '../../components/Choices.tsx';
import { withIdentity, withRole } from '../../working/declare.ts';
import { working } from '../../working/working.ts';

const NAME = /^[a-z][a-z0-9_]{0,62}$/;

/** Roles, and test identities to look through: what rules speak of, and what proves them. */
export function RolesPanel({
  roles,
  identities,
  canWrite,
}: {
  roles: readonly { readonly name: string; readonly title: string | null }[];
  identities: readonly { readonly name: string; readonly roles: readonly string[] }[];
  canWrite: boolean;
}) {
  const [role, setRole] = useState({ name: '', title: '' });
  const [identity, setIdentity] = useState<{ name: string; email: string; roles: readonly string[] }>({
    name: '',
    email: '',
    roles: [],
  });
  const texts = () => working.current()!.texts;
  const isRole = NAME.test(role.name) && !roles.some(({ name }) => name === role.name);
  const isIdentity =
    NAME.test(identity.name) &&
    identity.name !== 'visitor' &&
    !identities.some(({ name }) => name === identity.name);
  return (
    <>
      <Box component="section" aria-label="Roles" sx={{ display: 'grid', gap: 0.5 }}>
        <Typography variant="h2">Roles</Typography>
        {roles.length === 0 && (
          <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary' }}>
            None yet: rules can speak of people and visitors alone.
          </Typography>
        )}
        {roles.map(({ name, title }) => (
          <Typography key={name} sx={{ fontSize: '0.8rem' }}>
            <strong>{name}</strong>
            {title === null ? '' : `: ${title}`}
          </Typography>
        ))}
        {canWrite && (
          <Box
            component="form"
            aria-label="New role"
            onSubmit={(event: FormEvent) => {
              event.preventDefault();
              if (!isRole) return;
              working.change(withRole(texts(), role.name, role.title));
              setRole({ name: '', title: '' });
            }}
            sx={{ display: 'flex', gap: 0.5 }}
          >
            <TextField
              size="small"
              label="Role"
              value={role.name}
              onChange={(event) => setRole({ ...role, name: event.target.value })}
            />
            <TextField
              size="small"
              label="What they do"
              value={role.title}
              onChange={(event) => setRole({ ...role, title: event.target.value })}
            />
            <Button type="submit" size="small" disabled={!isRole}>
              Add
            </Button>
          </Box>
        )}
      </Box>
      <Box component="section" aria-label="Test identities" sx={{ display: 'grid', gap: 0.5 }}>
        <Typography variant="h2">Test identities</Typography>
        {identities.length === 0 && (
          <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary' }}>
            None yet. Two with the same role show whether each sees their own records alone.
          </Typography>
        )}
        {identities.map(({ name, roles: held }) => (
          <Typography key={name} sx={{ fontSize: '0.8rem' }}>
            <strong>{name}</strong> {held.length === 0 ? 'no role' : held.join(', ')}
          </Typography>
        ))}
        {canWrite && (
          <Box
            component="form"
            aria-label="New test identity"
            onSubmit={(event: FormEvent) => {
              event.preventDefault();
              if (!isIdentity) return;
              working.change(withIdentity(texts(), identity));
              setIdentity({ name: '', email: '', roles: [] });
            }}
            sx={{ display: 'grid', gap: 0.5 }}
          >
            <Box sx={{ display: 'flex', gap: 0.5 }}>
              <TextField
                size="small"
                label="Identity"
                value={identity.name}
                onChange={(event) => setIdentity({ ...identity, name: event.target.value })}
              />
              <TextField
                size="small"
                label="Address"
                value={identity.email}
                onChange={(event) => setIdentity({ ...identity, email: event.target.value })}
              />
              <Button type="submit" size="small" disabled={!isIdentity}>
                Add
              </Button>
            </Box>
            <Choices
              label="Roles of the identity"
              options={roles.map(({ name }) => name)}
              chosen={identity.roles}
              onChange={(chosen) => setIdentity({ ...identity, roles: chosen })}
            />
          </Box>
        )}
      </Box>
    </>
  );
}
