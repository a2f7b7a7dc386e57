import Box from '@mui/material/Box';
import { useTheme } from '@mui/material/styles';
import { BarChart, type BarChartProps } from '@mui/x-charts/BarChart';
import { ChartsReferenceLine } from '@mui/x-charts/ChartsReferenceLine';
import type { Tried, Turned } from './Figures.tsx';

/** Pixels of a bar with the gap to the next, and of what stands above and below all of them. */
const BAR = 24;
const AROUND = 92;
/** Pixels for the names of bars, and the letters that fit. */
const NAMES = 300;
const LETTERS = 44;

/** A scale below the bars, with its name. */
const scale = { height: 50, labelStyle: { fontSize: 12 } };

/** Bars to the right for what is gained, to the left for what is lost, in the order of the table beside them. */
export function GainedAndLost({ rows }: { rows: readonly Turned[] }) {
  const { palette } = useTheme().vars!;
  const numbers = new Intl.NumberFormat();
  const size = (value: number) => numbers.format(Math.abs(value));
  const bar = { stack: 'both', valueFormatter: (value: number | null) => (value ? size(value) : '') };
  return (
    <Chart
      words={`Gained and lost: ${rows.map(({ what, gained, lost }) => `${what}, ${gained} gained, ${lost} lost`).join('; ')}`}
      layout="horizontal"
      height={AROUND + BAR * rows.length}
      grid={{ vertical: true }}
      yAxis={[
        {
          scaleType: 'band',
          // Two may have the same name.
          data: rows.map((_, index) => index),
          valueFormatter: (index: number, { location }) =>
            location === 'tick' ? short(rows[index]!.what) : rows[index]!.what,
          width: NAMES,
          disableLine: true,
          disableTicks: true,
          categoryGapRatio: 0.35,
          tickLabelInterval: () => true,
        },
      ]}
      xAxis={[
        { ...scale, label: 'records, added up over all callers', valueFormatter: size, tickMinStep: 1 },
      ]}
      series={[
        { ...bar, data: rows.map(({ lost }) => -lost), label: 'lost', color: palette.error.main },
        { ...bar, data: rows.map(({ gained }) => gained), label: 'gained', color: palette.info.main },
      ]}
    >
      <ChartsReferenceLine x={0} lineStyle={{ stroke: palette.text.primary }} />
    </Chart>
  );
}

/** A bar for each version, oldest first: expectations that were met, and on top of them those that were not. */
export function TrialsOverTime({ versions }: { versions: readonly Tried[] }) {
  const { palette } = useTheme().vars!;
  const bar = { stack: 'all' };
  return (
    <Chart
      words={`Trials: ${versions.map(({ version, passed, failed }) => `version ${version}, ${passed} met, ${failed} not met`).join('; ')}`}
      height={180}
      grid={{ horizontal: true }}
      xAxis={[
        {
          scaleType: 'band',
          data: versions.map(({ version }) => version),
          ...scale,
          label: 'version',
          valueFormatter: String,
          categoryGapRatio: 0.5,
        },
      ]}
      yAxis={[{ width: 46, tickMinStep: 1, min: 0 }]}
      series={[
        { ...bar, data: versions.map(({ passed }) => passed), label: 'met', color: palette.primary.main },
        { ...bar, data: versions.map(({ failed }) => failed), label: 'not met', color: palette.error.main },
      ]}
    />
  );
}

/** `words`: all that the picture says, for whoever does not see it. */
function Chart({ words, ...bars }: BarChartProps & { words: string }) {
  return (
    <Box role="img" aria-label={words} sx={{ maxWidth: 900 }}>
      <BarChart
        aria-hidden
        margin={{ top: 4, right: 16, bottom: 4, left: 4 }}
        skipAnimation
        disableKeyboardNavigation
        slotProps={{ legend: { direction: 'horizontal', position: { vertical: 'top', horizontal: 'end' } } }}
        {...bars}
      />
    </Box>
  );
}

function short(text: string): string {
  return text.length > LETTERS ? `${text.slice(0, LETTERS - 1)}…` : text;
}
