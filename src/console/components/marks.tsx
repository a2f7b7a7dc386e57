import Box from '@mui/material/Box';
import { visuallyHidden } from '@mui/utils';

// What somebody could and can do is one digit: 0 no, 1 by the draft alone, 2 by the rules in force alone, 3 by both.

export const isNow = (digit: string | undefined) => digit === '1' || digit === '3';
export const wasSo = (digit: string | undefined) => digit === '2' || digit === '3';

/** A place is as wide as this, and as high, in pixels: whoever is pinned has the same place in every cell. */
export const PLACE = { width: 15, height: 13 } as const;

/** The shapes, in a box of 15 × 13. They differ in form first, in colour second. */
const shapes = {
  sees: 'M7.5 3.1 a3.4 3.4 0 1 0 0.001 0 Z',
  changes: 'M7.5 2.4 L11.7 9.8 H3.3 Z',
  none: 'M5 6.5 H10',
  deletes: 'M5 4 L10 9 M10 4 L5 9',
  acts: 'M7.5 2.6 L11.4 6.5 L7.5 10.4 L3.6 6.5 Z',
  gained: 'M4.3 2.9 L7.5 0.7 L10.7 2.9',
  lost: 'M4.3 10.3 L7.5 12.4 L10.7 10.3',
  gone: 'M3.6 3.6 H11.4 L7.5 10 Z',
} as const;

/** The state of one place: what can be done now, and which way it went. */
export interface PlaceState {
  readonly shape: 'none' | 'sees' | 'changes' | 'blind' | 'deletes' | 'acts';
  readonly gained: boolean;
  readonly lost: boolean;
}

/** A field of a record, for one identity. */
export function cellState(sees: string | undefined, changes: string | undefined): PlaceState {
  const [seen, changed] = [isNow(sees), isNow(changes)];
  return {
    shape: changed ? (seen ? 'changes' : 'blind') : seen ? 'sees' : 'none',
    gained: sees === '1' || changes === '1',
    lost: sees === '2' || changes === '2',
  };
}

/** One thing that may be done with a record, for one identity. */
export function recordState(digit: string | undefined, shape: 'sees' | 'deletes' | 'acts'): PlaceState {
  return { shape: isNow(digit) ? shape : 'none', gained: digit === '1', lost: digit === '2' };
}

/** The marks of a cell in one drawing: a place for each identity, always in the same order; that of the one in focus stands out. */
export function Places({ states, focus }: { states: readonly PlaceState[]; focus: number }) {
  const width = PLACE.width * states.length;
  return (
    <svg
      aria-hidden
      width={width}
      height={PLACE.height}
      viewBox={`0 0 ${width} ${PLACE.height}`}
      className="fg-places"
    >
      {states.map((state, index) => (
        <g key={index} transform={`translate(${index * PLACE.width} 0)`}>
          <Place {...state} isFocus={index === focus} />
        </g>
      ))}
    </svg>
  );
}

function Place({ shape, gained, lost, isFocus }: PlaceState & { isFocus: boolean }) {
  return (
    <>
      {isFocus && <rect className="fg-focus" x="0.5" y="0" width="14" height="13" rx="2" />}
      {(gained || lost) && (
        <rect
          className={lost ? 'fg-lost-ground' : 'fg-gained-ground'}
          x="1.5"
          y="0"
          width="12"
          height="13"
          rx="2"
        />
      )}
      {shape === 'none' && !lost && <path className="fg-none" d={shapes.none} />}
      {shape === 'none' && lost && <path className="fg-line fg-lost" d={shapes.gone} />}
      {shape === 'sees' && <path className="fg-full" d={shapes.sees} />}
      {shape === 'changes' && <path className="fg-full fg-ink" d={shapes.changes} />}
      {shape === 'blind' && <path className="fg-line fg-ink" d={shapes.changes} />}
      {shape === 'deletes' && <path className="fg-line fg-bad" d={shapes.deletes} />}
      {shape === 'acts' && <path className="fg-line fg-ink" d={shapes.acts} />}
      {gained && <path className="fg-line fg-gained" d={shapes.gained} />}
      {lost && shape !== 'none' && <path className="fg-line fg-lost" d={shapes.lost} />}
    </>
  );
}

/** A rising mark for what is gained, a falling one for what is lost, beside a number. */
export function Rising({ count }: { count: number }) {
  return <Turn count={count} way="gained" />;
}
export function Falling({ count }: { count: number }) {
  return <Turn count={count} way="lost" />;
}

function Turn({ count, way }: { count: number; way: 'gained' | 'lost' }) {
  return (
    <Box
      component="span"
      sx={{
        color: way === 'gained' ? 'info.main' : 'error.main',
        fontWeight: 650,
        whiteSpace: 'nowrap',
      }}
    >
      <svg aria-hidden width="9" height="9" viewBox="0 0 9 9">
        <path d={way === 'gained' ? 'M4.5 1 L8.5 8 H0.5 Z' : 'M4.5 8 L8.5 1 H0.5 Z'} fill="currentColor" />
      </svg>
      <span style={visuallyHidden}>{way} </span>
      {` ${count}`}
    </Box>
  );
}

/** One mark by itself, for a legend. */
export function OneMark(state: PlaceState) {
  return <Places states={[state]} focus={-1} />;
}

/** How marks are drawn, put once around whatever shows them: colours come from the theme. */
export const markStyles = {
  '& .fg-full': { fill: 'var(--mui-palette-primary-main)' },
  '& .fg-ink': { fill: 'var(--mui-palette-text-primary)', stroke: 'var(--mui-palette-text-primary)' },
  '& .fg-line': { fill: 'none', strokeWidth: 1.5, strokeLinecap: 'round', strokeLinejoin: 'round' },
  '& .fg-none': { stroke: 'var(--mui-palette-text-secondary)', strokeWidth: 1.3, strokeLinecap: 'round' },
  '& .fg-bad': { stroke: 'var(--mui-palette-error-main)' },
  '& .fg-gained': { stroke: 'var(--mui-palette-info-main)', strokeWidth: 1.7 },
  '& .fg-lost': { stroke: 'var(--mui-palette-error-main)', strokeWidth: 1.7 },
  '& .fg-gained-ground': { fill: 'color-mix(in srgb, var(--mui-palette-info-main) 22%, transparent)' },
  '& .fg-lost-ground': { fill: 'color-mix(in srgb, var(--mui-palette-error-main) 20%, transparent)' },
  '& .fg-focus': { fill: 'color-mix(in srgb, var(--mui-palette-secondary-main) 26%, transparent)' },
  '& .fg-places': { display: 'block', flexShrink: 0 },
} as const;

/** What a place says, in words. */
export function cellWords(who: string, sees: string | undefined, changes: string | undefined): string {
  const now = isNow(sees)
    ? isNow(changes)
      ? 'sees and may change it'
      : 'sees it'
    : isNow(changes)
      ? 'may change it without seeing it'
      : 'does not see it';
  const turns = [
    ...(sees === '1' ? ['begins to see it'] : sees === '2' ? ['no longer sees it'] : []),
    ...(changes === '1' ? ['may change it from now on'] : changes === '2' ? ['may no longer change it'] : []),
  ];
  return turns.length === 0 ? `${who} ${now}` : `${who} ${now} (by this draft: ${turns.join(', ')})`;
}

export function recordWords(
  who: string,
  {
    reads,
    deletes,
    acts,
  }: { reads: string | undefined; deletes: string | undefined; acts: string | undefined },
): string {
  const can = [
    isNow(reads) ? 'reads' : 'does not read',
    ...(isNow(deletes) ? ['may delete'] : []),
    ...(isNow(acts) ? ['may act on'] : []),
  ];
  const all: readonly [string | undefined, string][] = [
    [reads, 'reading'],
    [deletes, 'deleting'],
    [acts, 'acting'],
  ];
  const turns = all.flatMap(([digit, what]) =>
    digit === '1' ? [`${what} is gained`] : digit === '2' ? [`${what} is lost`] : [],
  );
  const said = `${who} ${can.join(', ')} it`;
  return turns.length === 0 ? said : `${said} (by this draft: ${turns.join(', ')})`;
}
