import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import type { SweepDocument } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { BeforeRun } from '../../components/BeforeRun.tsx';
import { ReportFrame } from '../../components/ReportFrame.tsx';
import { useReport } from '../../components/useReport.ts';
import { Truth } from '../why/WhyView.tsx';
import { SweepMap } from './SweepMap.tsx';

/** The sweep: findings first, then the map of caller against owner. */
export function SweepPage() {
  const report = useReport<SweepDocument>((onProgress) => gate.sweep({}, onProgress));
  return (
    <ReportFrame
      title="Sweep"
      about="What every test identity and the visitor reach, of whose records: counted in the database, worked out by the rules one by one, and asked of the service itself over HTTP. The three must agree. Everything is taken back."
      action="Run the sweep"
      isRunning={report.isPending}
      progress={report.progress}
      error={report.error}
      idle={report.data === undefined && <BeforeRun action="proof.sweep" />}
      onRun={() => report.mutate()}
    >
      {report.data !== undefined && <Report sweep={report.data} />}
    </ReportFrame>
  );
}

function Report({ sweep }: { sweep: SweepDocument }) {
  const { findings, differences, left, covered } = sweep;
  return (
    <>
      <Box component="section" aria-label="Findings">
        <Typography variant="h2" component="h2" role="status">
          <Truth truth={sweep.passed} />{' '}
          {findings.length === 0
            ? 'Nothing reaches further than the rulebook accepts'
            : `${findings.length} ${findings.length === 1 ? 'finding' : 'findings'} that the rulebook does not accept`}
        </Typography>
        {findings.map(({ kind, text, accept }) => (
          <Paper key={kind + text} variant="outlined" sx={{ p: 1.25, mt: 1 }}>
            <Typography>
              <strong>{kind}</strong>: {text}
            </Typography>
            <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary', mt: 0.25 }}>
              If that is meant, say so in the rulebook: <code>{accept}</code>
            </Typography>
          </Paper>
        ))}
        {left.map((each) => (
          <Typography key={each} sx={{ color: 'error.main', mt: 1 }}>
            Not covered: {each}
          </Typography>
        ))}
      </Box>
      <Box component="section" aria-label="Agreement">
        <Typography>
          <Truth truth={differences.length === 0} />{' '}
          {differences.length === 0
            ? `The answers agree: ${covered.cells} cells of closures and database, ${covered.requests} requests to the service about ${covered.asked} of ${covered.possible} pairs of identity and record`
            : `${differences.length} answers differ: that is a defect of Firm Gate, please report it`}
        </Typography>
        {differences.slice(0, 20).map((each, index) => (
          <Typography key={index} sx={{ fontSize: '0.8rem', color: 'error.main' }}>
            {each.between}: {each.identity}, {each.operation} {each.collection} {each.record}
            {each.field === null ? '' : ` (${each.field})`}: {each.text}
          </Typography>
        ))}
      </Box>
      <SweepMap sweep={sweep} />
    </>
  );
}
