import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import LinearProgress from '@mui/material/LinearProgress';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';
import type { Progress } from '../../client/desk.ts';
import { useHasLevel } from '../api/session.ts';
import { ProofNav } from './ProofNav.tsx';
import { ErrorNote } from './ErrorNote.tsx';

export interface ReportFrameProps {
  readonly title: string;
  /** What running it does, in a sentence or two. */
  readonly about: string;
  readonly action: string;
  readonly isRunning: boolean;
  readonly progress: Progress | null;
  readonly error: unknown;
  /** What is known before it is run. */
  readonly idle: ReactNode;
  readonly onRun: () => void;
  readonly children: ReactNode;
}

/** A page whose content is made when it is asked for. */
export function ReportFrame(props: ReportFrameProps) {
  const { title, about, action, isRunning, progress, error, idle, onRun, children } = props;
  const mayRun = useHasLevel('author');
  return (
    <Box component="main" sx={{ height: '100%', overflow: 'auto' }}>
      <ProofNav />
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 2 }}>
        <Box sx={{ display: 'flex', alignItems: 'flex-start', gap: 3 }}>
          <Box sx={{ flex: 1 }}>
            <Typography variant="h1">{title}</Typography>
            <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem', maxWidth: 760 }}>
              {about}
            </Typography>
          </Box>
          <Button variant="contained" onClick={onRun} disabled={isRunning || mayRun !== true}>
            {isRunning ? 'Running…' : action}
          </Button>
        </Box>
        {mayRun === false && (
          <Typography sx={{ color: 'text.secondary' }}>
            Running it takes the level of an author: ask one.
          </Typography>
        )}
        {!isRunning && error === null && idle}
        {isRunning && (
          <Box role="status">
            <LinearProgress
              aria-label="Progress"
              {...(progress === null
                ? {}
                : {
                    variant: 'determinate' as const,
                    value: (100 * progress.done) / Math.max(1, progress.total),
                  })}
            />
            <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary', mt: 0.5 }}>
              {progress === null ? 'Beginning' : `${progress.done} of ${progress.total}: ${progress.doing}`}
            </Typography>
          </Box>
        )}
        {error !== null && <ErrorNote error={error} retry={onRun} />}
        {children}
      </Box>
    </Box>
  );
}
