import { Suspense, lazy, type ReactNode } from 'react';
import { Boundary } from '../components/Boundary.tsx';

/** What is gained and lost of one thing that can be done, over all callers. */
export interface Turned {
  readonly what: string;
  readonly gained: number;
  readonly lost: number;
}

/** How the trials of a version went. */
export interface Tried {
  readonly version: number;
  readonly passed: number;
  readonly failed: number;
}

/** The package that draws is large, and fetched where there is something to draw. */
const bars = () => import('./bars.tsx');
const GainedAndLost = lazy(async () => ({ default: (await bars()).GainedAndLost }));
const TrialsOverTime = lazy(async () => ({ default: (await bars()).TrialsOverTime }));

/** More bars say less than the table beside them; one says nothing. */
const MOST_BARS = 12;

export function GainedAndLostFigure({ rows }: { rows: readonly Turned[] }) {
  if (rows.length < 2) return null;
  return (
    <Figure>
      <GainedAndLost rows={rows.slice(0, MOST_BARS)} />
    </Figure>
  );
}

/** `versions`: newest first. */
export function TrialsFigure({ versions }: { versions: readonly Tried[] }) {
  if (versions.length < 2) return null;
  return (
    <Figure>
      <TrialsOverTime versions={versions.toReversed()} />
    </Figure>
  );
}

/** All of it stands in a table as well: where it cannot be loaded, it is left out. */
function Figure({ children }: { children: ReactNode }) {
  return (
    <Boundary isQuiet>
      <Suspense fallback={null}>{children}</Suspense>
    </Boundary>
  );
}
