import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { cellWords, recordWords } from '../../components/marks.tsx';
import { MADE_BY, type Made } from './made.ts';
import { usePointed, type Pointing } from './pointing.ts';
import type { Spot } from './RecordGrid.tsx';
import { nameOf } from './values.ts';

const LINE = 15;

/**
 * What is under the pointer, or has the keyboard, in words, and which sentences make it so for the one in focus: a place of its own, so that
 * nothing is covered.
 */
export function ReadingLine({
  pointing,
  as,
  focus,
  notCovered,
}: {
  pointing: Pointing;
  as: readonly string[];
  focus: number;
  notCovered: readonly string[];
}) {
  const { spot, made } = usePointed(pointing);
  const lines = alike(made);
  return (
    <Box sx={{ fontSize: '0.76rem', lineHeight: `${LINE}px`, color: 'text.secondary' }}>
      <Typography component="p" aria-hidden noWrap sx={lineStyle}>
        {spot === null ? (
          notCovered.join('; ')
        ) : (
          <>
            <Box component="strong" sx={{ color: 'text.primary' }}>
              <bdi>{nameOf(spot.record)}</bdi>
              {spot.field === null ? '' : `, ${spot.field}`}
            </Box>{' '}
            {as.map((who, at) => wordsAt(spot, who, at)).join(' · ')}
          </>
        )}
      </Typography>
      <Box id={MADE_BY} sx={{ height: 2 * LINE, overflow: 'hidden' }}>
        {spot !== null && (
          <>
            <Typography component="p" noWrap sx={lineStyle}>
              {lines.slice(0, 1).map((each) => (
                <Sentence key={each.verbs.join()} {...each} who={as[focus]!} />
              ))}
            </Typography>
            <Typography component="p" noWrap sx={lineStyle}>
              {lines.slice(1).map((each) => (
                <Sentence key={each.verbs.join()} {...each} who={as[focus]!} />
              ))}
              {lines.length < 2 && <span aria-hidden>Enter, or a click: why, and to try</span>}
            </Typography>
          </>
        )}
      </Box>
    </Box>
  );
}

const lineStyle = { font: 'inherit', lineHeight: 'inherit', height: LINE, m: 0 } as const;

interface Line extends Omit<Made, 'verb'> {
  readonly verbs: readonly string[];
}

/** Marks that the same sentences make are said together. */
function alike(made: readonly Made[]): Line[] {
  const lines = new Map<string, Line>();
  for (const { verb, isOpen, by, was } of made) {
    const key = JSON.stringify([
      isOpen,
      ...[by, was].map((all) => all.map(({ file, start }) => [file, start])),
    ]);
    lines.set(key, { isOpen, by, was, verbs: [...(lines.get(key)?.verbs ?? []), verb] });
  }
  return [...lines.values()];
}

function Sentence({ verbs, isOpen, by, was, who }: Line & { who: string }) {
  const [[first], [lost]] = [by, was];
  const may = isOpen ? `${who} may ${verbs.join(' and ')} it` : `${who} may not ${verbs.join(' or ')} it`;
  return (
    <Box component="span" sx={{ mr: 1.5 }}>
      {may}
      {first === undefined ? (
        isOpen ? (
          ': ask why'
        ) : (
          ': no sentence opens it'
        )
      ) : (
        <>
          {isOpen ? (first.shared ? ', shared by somebody with ' : ' by ') : ', held back by '}
          <Box component="code" title={first.text} sx={{ color: isOpen ? 'primary.main' : 'error.main' }}>
            {first.text.replaceAll(/\s+/g, ' ')}
          </Box>
          {by.length > 1 && `, and ${by.length - 1} more`}
        </>
      )}
      {first === undefined && lost !== undefined && (
        <>
          {'; in force it is opened by '}
          <Box component="code" title={lost.text} sx={{ color: 'text.primary' }}>
            {lost.text.replaceAll(/\s+/g, ' ')}
          </Box>
          {was.length > 1 && `, and ${was.length - 1} more`}
        </>
      )}
    </Box>
  );
}

function wordsAt({ record, field }: Spot, who: string, at: number): string {
  if (field === null)
    return recordWords(who, { reads: record.reads[at], deletes: record.deletes[at], acts: record.acts[at] });
  return cellWords(who, record.sees[field]?.[at], record.changes[field]?.[at]);
}
