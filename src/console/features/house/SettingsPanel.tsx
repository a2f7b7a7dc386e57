import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import type { Settings } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';

/** With what the service was started: whose tokens it accepts, how letters go out, what is bounded. */
export function SettingsPanel() {
  const settings = useQuery({ queryKey: ['settings'], queryFn: () => gate.settings() });
  const { data } = settings;
  return (
    <Box component="section" aria-label="Settings" sx={{ display: 'grid', gap: 0.75 }}>
      <Typography variant="h2">Settings</Typography>
      <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem' }}>
        With what this gate was started. They are changed there, by whoever runs it: “firmgate serve --help”.
      </Typography>
      {settings.isError && <ErrorNote error={settings.error} retry={() => void settings.refetch()} />}
      {data?.development === true && (
        <Alert severity="warning" variant="outlined" sx={{ py: 0 }}>
          Tokens for test identities are accepted: whoever has the development key can call as any of them,
          and as a manager. Never in production.
        </Alert>
      )}
      {data?.issuers.length === 0 && (
        <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem' }}>
          No issuer: nobody comes with a token of an application’s own.
        </Typography>
      )}
      {data !== undefined && data.issuers.length > 0 && (
        <DenseTable
          label="Issuers"
          heads={['issuer', 'audience', 'keys from', 'algorithms', 'person', 'newcomers', 'known by address']}
        >
          {data.issuers.map((each) => (
            <TableRow key={each.issuer}>
              <TableCell title={each.issuer}>{each.issuer}</TableCell>
              <TableCell title={each.audience}>{each.audience}</TableCell>
              <TableCell title={each.keys}>{each.keys}</TableCell>
              <TableCell>{each.algorithms.join(', ')}</TableCell>
              <TableCell>{each.person}</TableCell>
              <TableCell>{each.newcomers === 'admit' ? 'are let in' : 'are refused'}</TableCell>
              <TableCell>{each.byAddress === 'link' ? 'yes' : 'no'}</TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      {data !== undefined && (
        <DenseTable label="Other settings" heads={['what', 'how']}>
          {lines(data).map(([what, how]) => (
            <TableRow key={what}>
              <TableCell component="th" scope="row">
                {what}
              </TableCell>
              <TableCell title={how} sx={{ '&&': { maxWidth: 720 } }}>
                {how}
              </TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
    </Box>
  );
}

const ways = { 'mail server': 'by the mail server', outbox: 'into the folder' } as const;

function lines({
  leeway,
  letters,
  welcome,
  origins,
  proxies,
  shares,
  ...rest
}: Settings): [string, string][] {
  const listed = (all: readonly string[]) => (all.length === 0 ? 'none' : all.join(', '));
  return [
    ['Letters', letters === null ? 'none go out' : `${ways[letters.by]} ${letters.to}, from ${letters.from}`],
    ['Where invited people arrive', welcome === '' ? 'nowhere' : welcome],
    ['Web pages of other origins that may ask', listed(origins)],
    ['Proxies whose word is taken', listed(proxies)],
    ['Records that one person may share', String(shares.byOne)],
    ['Records shared with one target', String(shares.withOne)],
    ['People who share with one target', String(shares.sharers)],
    ['What was discarded can be kept for', `${rest.discardedDays} days`],
    ['Clocks may differ by', `${leeway} seconds`],
    ['Processes', String(rest.processes)],
  ];
}
