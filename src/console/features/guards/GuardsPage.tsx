import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import type { MutateDocument } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { Code } from '../../code/Code.tsx';
import { BeforeRun } from '../../components/BeforeRun.tsx';
import { ReportFrame } from '../../components/ReportFrame.tsx';
import { useReport } from '../../components/useReport.ts';
import { Truth } from '../why/WhyView.tsx';

/** Faults planted in the rules, one at a time: which of them would no trial tell? */
export function GuardsPage() {
  const report = useReport<MutateDocument>((onProgress) => gate.mutate({}, onProgress));
  return (
    <ReportFrame
      title="What no trial guards"
      about="Plants faults in the rules in force, one at a time and beside what is in use, and looks who finds each: the checker, the trials, the invariants, or a sweep alone. What only a sweep finds, no trial guards."
      action="Plant faults"
      isRunning={report.isPending}
      progress={report.progress}
      error={report.error}
      idle={report.data === undefined && <BeforeRun action="proof.mutate" />}
      onRun={() => report.mutate()}
    >
      {report.data !== undefined && <Report report={report.data} />}
    </ReportFrame>
  );
}

function Report({ report: { faults, failing, possible, milliseconds } }: { report: MutateDocument }) {
  if (faults.length === 0) return <Typography>There are no rules to plant a fault in.</Typography>;
  const by = (who: MutateDocument['faults'][number]['foundBy']) =>
    faults.filter(({ foundBy }) => foundBy === who);
  const unguarded = by('sweep');
  const untold = by('nobody').length;
  return (
    <>
      <Typography role="status" sx={{ fontWeight: 650 }}>
        <Truth truth={untold === faults.length ? null : unguarded.length === 0} />{' '}
        {untold === faults.length
          ? 'No fault changes an answer that was looked at: that says nothing of the trials'
          : unguarded.length === 0
            ? 'Each fault that changes an answer is found by the checker, a trial or an invariant'
            : `${unguarded.length} faults change an answer, and no trial tells`}
      </Typography>
      <Typography sx={{ fontSize: '0.85rem', color: 'text.secondary' }}>
        {faults.length} of {possible} possible faults were planted, in {Math.round(milliseconds / 1000)} s:{' '}
        {by('check').length} found by the checker, {by('trials').length} by trials, {by('invariants').length}{' '}
        by invariants, {unguarded.length} by a sweep alone.
        {untold > 0 && ` ${untold} change no answer that was looked at: whether they matter is not decided.`}
        {failing.length > 0 &&
          ` Without any fault ${failing.map((title) => `“${title}”`).join(', ')} ${failing.length === 1 ? 'fails' : 'fail'} already: where that is so, no fault is found by it.`}
        {faults.length < possible && ' The others were not planted: what they would do is not known.'}
      </Typography>
      {unguarded.map(({ kind, file, line, was, now, by: answer }) => (
        <Paper
          key={`${file} ${line} ${kind} ${now}`}
          variant="outlined"
          component="section"
          aria-label={`${kind}, ${file} line ${line}`}
          sx={{ p: 1.25 }}
        >
          <Typography sx={{ fontSize: '0.85rem' }}>
            <strong>{kind}</strong>{' '}
            <Box component="span" sx={{ color: 'text.secondary' }}>
              {file}:{line} · a sweep sees: {answer}
            </Box>
          </Typography>
          <Box
            sx={{ display: 'grid', gridTemplateColumns: '40px minmax(0, 1fr)', mt: 0.5, fontSize: '0.78rem' }}
          >
            <span>was</span>
            <Words text={was} />
            <span>now</span>
            <Words text={now} />
          </Box>
        </Paper>
      ))}
    </>
  );
}

function Words({ text }: { text: string }) {
  const words = text.replaceAll(/\s+/g, ' ').trim();
  if (words !== '') return <Code text={words} />;
  return (
    <Box component="em" sx={{ color: 'text.secondary' }}>
      nothing
    </Box>
  );
}
