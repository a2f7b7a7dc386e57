import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Chip from '@mui/material/Chip';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';
import type { EffectDocument, Preview } from '../../../client/desk.ts';
import { GainedAndLostFigure } from '../../charts/Figures.tsx';
import { Code } from '../../code/Code.tsx';
import { DenseTable } from '../../components/DenseTable.tsx';
import { Falling, Rising } from '../../components/marks.tsx';

/** What a draft says and does: words, what becomes of the records, who gains and loses what; the most dangerous first. */
export function PreviewView({ preview }: { preview: Preview }) {
  const { differences, kept, effects, looked, notCovered, withheld } = preview;
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Warnings preview={preview} />
      <Part
        title={`What it says, against ${preview.base === null ? 'nothing in force' : `version ${preview.base}`}`}
      >
        {differences.length === 0 && <Typography>The same as what is in force.</Typography>}
        {differences.map((each) => (
          <Box key={`${each.what} ${each.was} ${each.is}`} sx={{ display: 'grid', gap: 0.25, mb: 1 }}>
            <Typography sx={{ fontSize: '0.85rem' }}>
              <Chip
                size="small"
                label={each.how}
                color={each.how === 'gone' ? 'error' : 'default'}
                variant="outlined"
                sx={{ mr: 1, height: 20 }}
              />
              <strong>{each.what}</strong>: {each.words}
            </Typography>
            {each.was !== null && <Side sign="−" text={each.was} color="error.main" />}
            {each.is !== null && <Side sign="+" text={each.is} color="info.main" />}
          </Box>
        ))}
      </Part>
      {kept.changes.length + kept.problems.length > 0 && (
        <Part title="What becomes of the records">
          {kept.changes.map((each) => (
            <Typography key={each}>{each}</Typography>
          ))}
          {kept.problems.map((each) => (
            <Typography key={each} sx={{ color: 'error.main' }}>
              {each}
            </Typography>
          ))}
        </Part>
      )}
      <Part title="What it does">
        <Typography sx={{ color: 'text.secondary', fontSize: '0.82rem' }}>
          {effects === null
            ? 'Not counted.'
            : effects.length > 0
              ? `On the records that are there, for ${looked.identities} identities and visitors, ${looked.people} people.`
              : withheld
                ? 'Something changes, for so few people that it is told after an unlock alone.'
                : `Nobody may do more or less with the records that are there, of ${looked.identities} identities and visitors, ${looked.people} people.`}
        </Typography>
        {effects !== null && (
          <GainedAndLostFigure
            rows={together(effects).map(({ first, names }) => ({ ...first, what: whatOf(first, names) }))}
          />
        )}
        {effects !== null && effects.length > 0 && (
          <DenseTable
            label="What it does"
            heads={['', 'what', 'gained', 'lost', 'who']}
            numbers={['gained', 'lost']}
          >
            {together(effects).map(({ first, names }) => (
              <TableRow key={`${first.collection} ${first.operation} ${names.join()}`}>
                <TableCell sx={{ color: dangers[first.danger].color, fontWeight: 650 }}>
                  {dangers[first.danger].words}
                </TableCell>
                <TableCell title={names.join(', ')} sx={{ '&&': { maxWidth: 420, whiteSpace: 'normal' } }}>
                  {whatOf(first, names)}
                </TableCell>
                <TableCell align="right">{first.gained > 0 && <Rising count={first.gained} />}</TableCell>
                <TableCell align="right">{first.lost > 0 && <Falling count={first.lost} />}</TableCell>
                <TableCell sx={{ '&&': { maxWidth: 520, whiteSpace: 'normal' } }}>{whoOf(first)}</TableCell>
              </TableRow>
            ))}
          </DenseTable>
        )}
      </Part>
      <Part title="What was not looked at">
        {notCovered.map((each) => (
          <Typography key={each} sx={{ color: 'text.secondary', fontSize: '0.82rem' }}>
            {each}
          </Typography>
        ))}
      </Part>
    </Box>
  );
}

function Warnings({ preview: { roles, lockedOut, frozen } }: { preview: Preview }) {
  const said = [
    ...roles.map(({ role, how, holders }) =>
      how === 'gone'
        ? `The role “${role}” would be gone: ${holders} hold it.`
        : `The role “${role}” would be back, held by nobody: ${holders} held it before it went.`,
    ),
    ...lockedOut.map(
      ({ kind, name, collection }) =>
        `${name ?? kind} could do something with ${collection}, and can read, change and delete nothing any more.`,
    ),
    ...frozen.map(
      (collection) => `Nobody who was looked at could change anything in ${collection} any more.`,
    ),
  ];
  if (said.length === 0) return null;
  return (
    <Alert severity="warning" variant="outlined">
      {said.map((each) => (
        <div key={each}>{each}</div>
      ))}
    </Alert>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Box component="section" aria-label={title} sx={{ display: 'grid', gap: 0.5 }}>
      <Typography variant="h2">{title}</Typography>
      {children}
    </Box>
  );
}

function Side({ sign, text, color }: { sign: string; text: string; color: string }) {
  return (
    <Box sx={{ display: 'flex', gap: 1, pl: 1, borderLeft: '3px solid', borderColor: color }}>
      <Typography component="span" sx={{ color, fontWeight: 700, lineHeight: 1.4 }}>
        {sign}
      </Typography>
      <Code text={text} />
    </Box>
  );
}

const dangers: Readonly<Record<EffectDocument['danger'], { words: string; color: string }>> = {
  visitors: { words: 'visitors gain', color: 'error.main' },
  sensitive: { words: 'sensitive gained', color: 'error.main' },
  changes: { words: 'more may be changed', color: 'secondary.main' },
  more: { words: 'more is read', color: 'info.main' },
  less: { words: 'less', color: 'text.secondary' },
};

/** Fields that the same people gain and lose on the same records stand in one row. */
function together(effects: readonly EffectDocument[]) {
  const rows = new Map<string, { first: EffectDocument; names: string[] }>();
  for (const each of effects) {
    const { collection, operation, danger, who, others, field } = each;
    const key = JSON.stringify([collection, operation, danger, who, others]);
    const row = rows.get(key) ?? { first: each, names: [] };
    row.names.push(field ?? RECORD);
    rows.set(key, row);
  }
  return [...rows.values()];
}

/** What is said in place of fields where it is the record. */
const RECORD = 'the record';

function whatOf({ operation, collection }: EffectDocument, names: readonly string[]): string {
  return `${operation} ${collection}${names.join() === RECORD ? '' : ` (${names.join(', ')})`}`;
}

function whoOf({ who, others }: EffectDocument): string {
  const named = who.slice(0, 6).map(({ kind, name, gained, lost, more, less }) => {
    const counts = [gained > 0 ? `+${gained}` : '', lost > 0 ? `−${lost}` : '']
      .filter((part) => part !== '')
      .join(' ');
    const some = [...more, ...less].slice(0, 2).join(', ');
    return `${name ?? kind} ${counts}${some === '' ? '' : ` (${some})`}`;
  });
  const left = others + who.length - named.length;
  return [...named, ...(left > 0 ? [`${left} more`] : [])].join(', ');
}
