import Box from '@mui/material/Box';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { useState } from 'react';
import type { TrialReport, VerdictDocument } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { BeforeRun } from '../../components/BeforeRun.tsx';
import { ReportFrame } from '../../components/ReportFrame.tsx';
import { useReport } from '../../components/useReport.ts';
import { isChanged, useWorking } from '../../working/working.ts';
import { Truth, WhyView } from '../why/WhyView.tsx';

/** The trials of the published rulebook: run them, watch them, read a failure. */
export function TrialsPage() {
  const now = useWorking();
  const hasDraft = now !== null && isChanged(now);
  const [isOfDraft, setOfDraft] = useState(false);
  const report = useReport<TrialReport>((onProgress) => {
    const texts = hasDraft && isOfDraft ? now.texts : null;
    const files = texts === null ? {} : { files: texts.map(({ name, text }) => ({ name, text })) };
    return gate.trials(files, onProgress);
  });
  return (
    <ReportFrame
      title="Trials"
      about="Expectations of the published rulebook, run as the test identities against the records that there are. Everything is taken back, and nobody has to wait."
      action="Run trials"
      isRunning={report.isPending}
      progress={report.progress}
      error={report.error}
      idle={report.data === undefined && <BeforeRun action="proof.trials" />}
      onRun={() => report.mutate()}
    >
      {hasDraft && (
        <FormControlLabel
          label="Of the draft that is being written, by its rules"
          control={
            <Checkbox
              size="small"
              checked={isOfDraft}
              onChange={(event) => {
                setOfDraft(event.target.checked);
                report.reset();
              }}
            />
          }
        />
      )}
      {report.data !== undefined && <Report report={report.data} />}
    </ReportFrame>
  );
}

function Report({ report }: { report: TrialReport }) {
  if (report.verdicts.length === 0)
    return (
      <Typography>
        There are no trials. Try something at the bench, and keep it as one; or write it into the rulebook:{' '}
        <code>
          trial "…" {'{'} as IDENTITY {'{'} reads … {'}'} {'}'}
        </code>
      </Typography>
    );
  const titles = [...new Set(report.verdicts.map((verdict) => verdict.trial))];
  const of = (title: string) => report.verdicts.filter((verdict) => verdict.trial === title);
  const failing = titles.filter((title) => of(title).some((verdict) => !verdict.passed));
  const rest = titles.filter((title) => !failing.includes(title));
  return (
    <>
      {report.left.map((each) => (
        <Typography key={each} sx={{ color: 'secondary.main', fontSize: '0.85rem' }}>
          Not tried: {each}
        </Typography>
      ))}
      <Typography role="status" sx={{ fontWeight: 650 }}>
        <Truth truth={report.failed === 0} /> {report.passed} expectations met, {report.failed} not, in{' '}
        {report.milliseconds} ms
      </Typography>
      <Box sx={{ display: 'flex', flexDirection: 'column', gap: 0.75 }}>
        {[...failing, ...rest].map((title) => (
          <Trial key={title} title={title} verdicts={of(title)} />
        ))}
      </Box>
    </>
  );
}

function Trial({ title, verdicts }: { title: string; verdicts: readonly VerdictDocument[] }) {
  const failed = verdicts.filter((verdict) => !verdict.passed);
  const names = [...new Set(verdicts.map((verdict) => verdict.identity ?? 'visitor'))];
  return (
    <Paper component="section" aria-label={title} variant="outlined" sx={{ px: 1.5, py: 0.75 }}>
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'baseline' }}>
        <Typography sx={{ flex: 1, fontWeight: 650 }}>
          <Truth truth={failed.length === 0} /> {title}
        </Typography>
        <Typography sx={{ color: 'text.secondary', fontSize: '0.8rem' }}>
          {verdicts.length - failed.length} of {verdicts.length} ·{' '}
          {names.length > 6 ? `${names.length} identities` : names.join(', ')}
        </Typography>
      </Box>
      {verdicts.every(({ idle }) => idle === true) && (
        <Typography sx={{ color: 'text.secondary', fontSize: '0.8rem' }}>
          That is no test of it: none of them can do this to any record that is there
        </Typography>
      )}
      {[...new Set(verdicts.flatMap(({ notCovered }) => notCovered ?? []))].map((each) => (
        <Typography key={each} sx={{ color: 'text.secondary', fontSize: '0.8rem' }}>
          Nothing was found, and not everything was covered: {each}
        </Typography>
      ))}
      {failed.map((verdict, index) => (
        <Box key={index} sx={{ mt: 1.5, pt: 1.5, borderTop: 1, borderColor: 'divider' }}>
          <Typography sx={{ fontSize: '0.85rem' }}>
            as <strong>{verdict.identity ?? 'visitor'}</strong>: <code>{verdict.expectation}</code>{' '}
            <Box component="span" sx={{ color: 'text.secondary' }}>
              {verdict.file}:{verdict.line}
            </Box>
          </Typography>
          <Box
            component="dl"
            sx={{ m: 0, my: 1, display: 'grid', gridTemplateColumns: '80px 1fr', fontSize: '0.85rem' }}
          >
            <Box component="dt" sx={{ color: 'text.secondary' }}>
              expected
            </Box>
            <Box component="dd" sx={{ m: 0 }}>
              {verdict.failure!.expected}
            </Box>
            <Box component="dt" sx={{ color: 'text.secondary' }}>
              actual
            </Box>
            <Box component="dd" sx={{ m: 0, color: 'error.main', fontWeight: 600 }}>
              {verdict.failure!.actual}
            </Box>
          </Box>
          {verdict.failure!.why !== null && <WhyView why={verdict.failure!.why} />}
        </Box>
      ))}
    </Paper>
  );
}
