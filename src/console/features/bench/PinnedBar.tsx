import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import NativeSelect from '@mui/material/NativeSelect';
import Typography from '@mui/material/Typography';
import type { Overview } from '../../../client/desk.ts';
import type { CountsOf } from './useBench.ts';
import { Falling, Rising } from '../../components/marks.tsx';

const MOST = 5;

/** Whom one is looking through: each with their place among the marks, and what the draft does for them. */
export function PinnedBar({
  overview,
  as,
  focus,
  counts,
  notCounted,
  onFocus,
  onChange,
}: {
  overview: Overview;
  as: readonly string[];
  focus: number;
  counts: CountsOf | undefined;
  /** Why there are none; null: they are on their way. */
  notCounted: string | null;
  onFocus: (index: number) => void;
  onChange: (as: readonly string[], focus: number) => void;
}) {
  const all = [...overview.identities.map(({ name }) => name), 'visitor'];
  const free = all.filter((name) => !as.includes(name));
  return (
    <Box
      component="section"
      aria-label="Seen by"
      sx={{ display: 'flex', gap: 0.75, alignItems: 'stretch', flexWrap: 'wrap' }}
    >
      {as.map((name, index) => {
        const isFocus = index === focus;
        const own = counts?.identities[counts.as.indexOf(name)];
        return (
          <Box
            key={name}
            sx={{
              display: 'flex',
              minWidth: 128,
              borderRadius: 1,
              border: '2px solid',
              borderColor: isFocus ? 'secondary.main' : 'divider',
              bgcolor: 'background.paper',
            }}
          >
            <Box
              component="button"
              type="button"
              aria-pressed={isFocus}
              title={`Look through ${name} (key ${index + 1})`}
              onClick={() => onFocus(index)}
              sx={{
                all: 'unset',
                cursor: 'pointer',
                flex: 1,
                px: 1,
                py: '1px',
                minWidth: 0,
                lineHeight: 1.35,
                '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main' },
              }}
            >
              <Typography
                component="span"
                noWrap
                sx={{ display: 'block', fontSize: '0.8rem', lineHeight: 1.4, maxWidth: 200 }}
              >
                <Box
                  component="span"
                  aria-hidden
                  sx={{
                    display: 'inline-block',
                    minWidth: 16,
                    textAlign: 'center',
                    mr: 0.75,
                    borderRadius: '3px',
                    fontSize: '0.72rem',
                    bgcolor: isFocus ? 'secondary.main' : 'divider',
                    color: isFocus ? 'background.paper' : 'text.primary',
                  }}
                >
                  {index + 1}
                </Box>
                <strong>{name}</strong>{' '}
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  {rolesOf(overview, name)}
                </Box>
              </Typography>
              <Typography
                component="span"
                sx={{ display: 'block', fontSize: '0.75rem', lineHeight: 1.4, color: 'text.secondary' }}
              >
                {own === undefined || counts === undefined ? (
                  <span title={notCounted ?? undefined}>{notCounted === null ? '…' : 'not counted'}</span>
                ) : (
                  <>
                    {own.was === own.is ? own.is : `${own.was} → ${own.is}`} of {counts.total}{' '}
                    {own.gained > 0 && <Rising count={own.gained} />}{' '}
                    {own.lost > 0 && <Falling count={own.lost} />}
                  </>
                )}
              </Typography>
            </Box>
            {as.length > 1 && (
              <Button
                size="small"
                color="inherit"
                aria-label={`Unpin ${name}`}
                sx={{ px: 0.5, minWidth: 24, color: 'text.secondary' }}
                onClick={() => {
                  const left = as.filter((each) => each !== name);
                  onChange(left, Math.min(focus > index ? focus - 1 : focus, left.length - 1));
                }}
              >
                ×
              </Button>
            )}
          </Box>
        );
      })}
      {as.length < MOST && free.length > 0 && (
        <NativeSelect
          value=""
          inputProps={{ 'aria-label': 'Pin somebody' }}
          onChange={(event) => onChange([...as, event.target.value], as.length)}
          sx={{ fontSize: '0.8rem', alignSelf: 'center' }}
        >
          <option value="" disabled>
            + pin…
          </option>
          {free.map((name) => (
            <option key={name} value={name}>
              {name} {rolesOf(overview, name)}
            </option>
          ))}
        </NativeSelect>
      )}
    </Box>
  );
}

function rolesOf({ identities }: Overview, name: string): string {
  const identity = identities.find((each) => each.name === name);
  if (identity === undefined) return name === 'visitor' ? 'nobody' : 'not in force';
  if (!identity.active) return 'deactivated';
  const roles = identity.roles.map((role) => role.replace(/ until .*/, ''));
  return roles.length === 0 ? 'no role' : roles.join(', ');
}
