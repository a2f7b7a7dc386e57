import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Collapse from '@mui/material/Collapse';
import Typography from '@mui/material/Typography';
import { memo, useState } from 'react';
import { Link } from 'react-router';
import type { BenchDocument } from '../../../client/desk.ts';
import { describeError } from '../../api/client.ts';
import { Falling, Rising, markStyles } from '../../components/marks.tsx';
import type { Effect } from './useBench.ts';

type Shown = 'trials' | 'everybody' | 'advice';

/** What the draft does beyond those pinned: for everybody, to the trials, and what the checker thinks of it. */
export const EffectBar = memo(function EffectBar({
  effect,
  found,
  isDraft,
  isTrying,
}: {
  effect: Effect;
  found: BenchDocument | undefined;
  isDraft: boolean;
  isTrying: boolean;
}) {
  const [shown, setShown] = useState<Shown | null>(null);
  const { trials, running, preview, error } = effect;
  const failed = trials?.verdicts.filter(({ passed }) => !passed) ?? [];
  const advice = found?.advice ?? [];
  const reads =
    preview?.effects?.filter(({ operation, field }) => operation === 'read' && field === null) ?? [];
  const others =
    preview?.effects?.filter(({ operation, field }) => !(operation === 'read' && field === null)) ?? [];
  const sum = (of: readonly { gained: number; lost: number }[], side: 'gained' | 'lost') =>
    of.reduce((before, each) => before + each[side], 0);
  const toggle = (which: Shown) => setShown(shown === which ? null : which);
  const item = (which: Shown, isOf: boolean, content: React.ReactNode) => (
    <Button
      size="small"
      color="inherit"
      aria-expanded={shown === which}
      disabled={!isOf}
      onClick={() => toggle(which)}
      sx={{ fontWeight: 400, fontSize: '0.8rem', py: 0.25, '&.Mui-disabled': { color: 'text.secondary' } }}
    >
      {content}
    </Button>
  );
  return (
    <Box component="section" aria-label="Effect" sx={{ ...markStyles }}>
      <Collapse in={shown !== null}>
        <Box
          sx={{
            maxHeight: 190,
            overflow: 'auto',
            p: 1,
            mb: 0.5,
            border: 1,
            borderColor: 'divider',
            borderRadius: 1,
            bgcolor: 'background.paper',
            fontSize: '0.8rem',
          }}
          tabIndex={0}
          role="region"
          aria-label="More about the effect"
        >
          {shown === 'trials' &&
            failed.map((verdict) => (
              <Typography key={`${verdict.trial} ${verdict.expectation}`} sx={{ fontSize: '0.8rem' }}>
                <strong>{verdict.trial}</strong>
                {verdict.identity === null ? '' : ` (${verdict.identity})`}: {verdict.expectation} —{' '}
                {verdict.failure?.actual}
              </Typography>
            ))}
          {shown === 'trials' && failed.length === 0 && 'Every expectation is met.'}
          {shown === 'advice' &&
            advice.map((each) => (
              <Typography key={`${each.code} ${each.start}`} sx={{ fontSize: '0.8rem' }}>
                <strong>{each.code}</strong> {each.file}, line {each.line}: {each.message}
              </Typography>
            ))}
          {shown === 'everybody' && (
            <>
              {[...reads, ...others].slice(0, 40).map((each) => (
                <Typography
                  key={`${each.collection} ${each.operation} ${each.field}`}
                  sx={{ fontSize: '0.8rem' }}
                >
                  {each.operation} {each.collection}
                  {each.field === null ? '' : ` (${each.field})`}:{' '}
                  {each.gained > 0 && <Rising count={each.gained} />}{' '}
                  {each.lost > 0 && <Falling count={each.lost} />}{' '}
                  <Box component="span" sx={{ color: 'text.secondary' }}>
                    {each.who.map(({ name, kind }) => name ?? kind).join(', ')}
                    {each.others > 0 && ` and ${each.others} more`}
                  </Box>
                </Typography>
              ))}
              {preview?.notCovered.map((each) => (
                <Typography key={each} sx={{ fontSize: '0.76rem', color: 'text.secondary' }}>
                  Not covered: {each}
                </Typography>
              ))}
            </>
          )}
        </Box>
      </Collapse>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 0.5, flexWrap: 'wrap', minHeight: 34 }}>
        <Typography component="h2" sx={{ fontWeight: 650, fontSize: '0.85rem', mr: 0.5 }}>
          Effect
        </Typography>
        {!isDraft ? (
          <Typography component="span" sx={{ fontSize: '0.8rem', color: 'text.secondary' }}>
            These are the rules in force. Change a sentence, and what it would do is shown here and on the
            marks.
          </Typography>
        ) : (
          <>
            {item(
              'everybody',
              preview !== null,
              preview === null ? (
                'everybody: …'
              ) : (
                <span>
                  everybody reads <Rising count={sum(reads, 'gained')} />{' '}
                  <Falling count={sum(reads, 'lost')} />
                  {others.length > 0 && ` · ${others.length} other kinds of change`}
                </span>
              ),
            )}
            {item(
              'trials',
              trials !== null,
              running !== null ? (
                <span>
                  trials: {running.done} of {running.total}
                  {(running.failed ?? 0) > 0 && (
                    <Box component="span" sx={{ color: 'error.main', fontWeight: 650 }}>
                      , {running.failed} not met so far
                    </Box>
                  )}
                </span>
              ) : trials === null ? (
                'trials: …'
              ) : (
                <Box component="span" sx={failed.length > 0 ? { color: 'error.main', fontWeight: 650 } : {}}>
                  trials {trials.passed} of {trials.passed + trials.failed}
                  {trials.left.length > 0 && ` (${trials.left.length} not tried)`}
                </Box>
              ),
            )}
            {item(
              'advice',
              advice.length > 0,
              `${advice.length} ${advice.length === 1 ? 'piece' : 'pieces'} of advice`,
            )}
            {(found?.errors.length ?? 0) > 0 && (
              <Typography
                role="status"
                component="span"
                sx={{ color: 'error.main', fontSize: '0.8rem', fontWeight: 650 }}
              >
                {found!.errors.length} {found!.errors.length === 1 ? 'error' : 'errors'}: the picture is the
                last that had none
              </Typography>
            )}
            {error !== null && (
              <Typography component="span" sx={{ color: 'error.main', fontSize: '0.8rem' }}>
                {describeError(error).title}
              </Typography>
            )}
          </>
        )}
        <Typography
          component="span"
          aria-live="polite"
          sx={{ ml: 'auto', fontSize: '0.75rem', color: 'text.secondary' }}
        >
          {isTrying ? 'trying…' : ''}
        </Typography>
        {isDraft && (
          <Button size="small" variant="contained" component={Link} to="/changes">
            Preview
          </Button>
        )}
      </Box>
    </Box>
  );
});
