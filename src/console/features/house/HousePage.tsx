import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as To } from 'react-router';
import { useSession } from '../../api/session.ts';
import { Page } from '../../components/Page.tsx';
import { KeysPanel } from './KeysPanel.tsx';
import { PasswordPanel } from './PasswordPanel.tsx';
import { SettingsPanel } from './SettingsPanel.tsx';
import { StaffPanel } from './StaffPanel.tsx';

/** Who runs this gate: accounts and keys, with what it was started, one’s own password, and where its interfaces are described. */
export function HousePage() {
  const session = useSession();
  const isManager = session.data?.level === 'manager';
  return (
    <Page
      title="House"
      about="Who runs this gate, which programs may ask it, and where its interfaces are described."
    >
      {isManager ? (
        <>
          <StaffPanel />
          <KeysPanel />
          <SettingsPanel />
        </>
      ) : (
        <Typography sx={{ color: 'text.secondary' }}>
          Staff, keys and settings are for managers: ask one.
        </Typography>
      )}
      {session.data?.kind === 'staff' && <PasswordPanel />}
      <Box component="section" aria-label="Interfaces" sx={{ display: 'grid', gap: 0.25 }}>
        <Typography variant="h2">Interfaces</Typography>
        <Typography sx={{ fontSize: '0.88rem' }}>
          <Link component={To} to="/house/interfaces/service">
            Everything that the service answers
          </Link>
          {' · '}
          <Link component={To} to="/house/interfaces/collections">
            the collections in force
          </Link>
        </Typography>
      </Box>
    </Page>
  );
}
