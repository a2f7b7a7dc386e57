import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Divider from '@mui/material/Divider';
import Menu from '@mui/material/Menu';
import MenuItem from '@mui/material/MenuItem';
import Typography from '@mui/material/Typography';
import { useColorScheme } from '@mui/material/styles';
import { useState } from 'react';
import type { SessionDocument } from '../../client/desk.ts';
import { densities, type Density } from '../theme.ts';
import { useDensity } from './settings.ts';

const modes = [
  { mode: 'system', words: 'As the system has it' },
  { mode: 'light', words: 'Light' },
  { mode: 'dark', words: 'Dark' },
] as const;

const lines: Readonly<Record<Density, string>> = {
  close: 'Lines close together',
  even: 'Lines even',
  wide: 'Lines wide apart',
};

/** Who is signed in, how the pages look to them, and the way out. */
export function AccountMenu({ session, onSignOut }: { session: SessionDocument; onSignOut: () => void }) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const { mode = 'system', setMode } = useColorScheme();
  const [density, setDensity] = useDensity();
  return (
    <>
      <Button
        size="small"
        color="inherit"
        aria-haspopup="menu"
        aria-expanded={anchor !== null}
        title={`${session.name} · ${session.level}`}
        onClick={(event) => setAnchor(event.currentTarget)}
        sx={{ fontWeight: 400, fontSize: '0.8rem', flexShrink: 8, minWidth: 60 }}
      >
        <Typography component="span" noWrap sx={{ fontSize: 'inherit' }}>
          {session.name} · {session.level}
        </Typography>
      </Button>
      <Menu anchorEl={anchor} open={anchor !== null} onClose={() => setAnchor(null)}>
        {modes.map((each) => (
          <Choice key={each.mode} isChosen={mode === each.mode} onChoose={() => setMode(each.mode)}>
            {each.words}
          </Choice>
        ))}
        <Divider />
        {densities.map((each) => (
          <Choice key={each} isChosen={density === each} onChoose={() => setDensity(each)}>
            {lines[each]}
          </Choice>
        ))}
        <Divider />
        <MenuItem dense onClick={onSignOut}>
          <Box component="span" sx={{ width: 20 }} />
          Sign out
        </MenuItem>
      </Menu>
    </>
  );
}

function Choice({
  isChosen,
  onChoose,
  children,
}: {
  isChosen: boolean;
  onChoose: () => void;
  children: string;
}) {
  return (
    <MenuItem dense role="menuitemradio" aria-checked={isChosen} onClick={onChoose}>
      <Box component="span" aria-hidden sx={{ width: 20, fontWeight: 700 }}>
        {isChosen ? '✓' : ''}
      </Box>
      {children}
    </MenuItem>
  );
}
