import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { cellWords, recordWords } from '../../components/marks.tsx';
import { MADE_BY, type Made } from './made.ts';
import type { Spot } from './RecordGrid.tsx';
import { nameOf } from './values.ts';

const LINE = 16;

/**
 * What is under the pointer, or has the keyboard, in words, and which sentences make it so for the one in focus: a place of its own, so that
 * nothing is covered.
 */
export function ReadingLine({
  spot,
  as,
  focus,
  made,
  notCovered,
}: {
  spot: Spot | null;
  as: readonly string[];
  focus: number;
  made: readonly Made[];
  notCovered: readonly string[];
}) {
  return (
    <Box sx={{ fontSize: '0.76rem', lineHeight: `${LINE}px`, color: 'text.secondary' }}>
      <Typography
        component="p"
        aria-hidden
        sx={{ font: 'inherit', lineHeight: 'inherit', height: 2 * LINE, overflow: 'hidden', m: 0 }}
      >
        {spot === null ? (
          notCovered.join('; ')
        ) : (
          <>
            <Box component="strong" sx={{ color: 'text.primary' }}>
              <bdi>{nameOf(spot.record)}</bdi>
              {spot.field === null ? '' : `, ${spot.field}`}
            </Box>{' '}
            {as.map((who, at) => wordsAt(spot, who, at)).join(' · ')}
            {' — Enter, or a click: why, and to try'}
          </>
        )}
      </Typography>
      <Typography
        component="p"
        id={MADE_BY}
        noWrap
        sx={{ font: 'inherit', lineHeight: 'inherit', height: LINE, m: 0 }}
      >
        {spot !== null &&
          made.map((each, index) => (
            <Sentence key={each.verb} {...each} who={as[focus]!} isFirst={index === 0} />
          ))}
      </Typography>
    </Box>
  );
}

function Sentence({ verb, isOpen, by, who, isFirst }: Made & { who: string; isFirst: boolean }) {
  const [first] = by;
  const more = by.length < 2 ? '' : `, and ${by.length - 1} more`;
  const may = `${isFirst ? who : '; '}${isFirst ? ' ' : ''}${isOpen ? 'may' : 'may not'} ${verb} it: `;
  if (first === undefined)
    return (
      <>
        {may}
        {isOpen ? 'ask why' : 'no sentence opens it'}
      </>
    );
  return (
    <>
      {may}
      {isOpen ? (first.shared ? 'shared by somebody with ' : '') : 'held back by '}
      <Box component="code" title={first.text} sx={{ color: isOpen ? 'primary.main' : 'error.main' }}>
        {first.text.replaceAll(/\s+/g, ' ')}
      </Box>
      {more}
    </>
  );
}

function wordsAt({ record, field }: Spot, who: string, at: number): string {
  if (field === null)
    return recordWords(who, { reads: record.reads[at], deletes: record.deletes[at], acts: record.acts[at] });
  return cellWords(who, record.sees[field]?.[at], record.changes[field]?.[at]);
}
