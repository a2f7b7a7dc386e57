import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { visuallyHidden } from '@mui/utils';
import type { PartDocument, SentenceEdit, VerdictDocument, WhyDocument } from '../../../client/desk.ts';

type Explanation = NonNullable<NonNullable<VerdictDocument['failure']>['why']>;
type Rule = Explanation['stages'][number]['rules'][number];

/** The explanation of one answer: the checks in their order, each rule with its parts, and what would change it. */
export function WhyView({
  why,
  served,
  onSentence,
  onEdit,
}: {
  why: Explanation;
  served?: WhyDocument['served'];
  /** Leads to the sentence of a line. */
  onSentence?: (place: { readonly file: string; readonly line: number }) => void;
  /** Puts words into a sentence of the draft. */
  onEdit?: ((edit: SentenceEdit, words: readonly string[]) => void) | undefined;
}) {
  return (
    <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.5 }}>
      <Typography sx={{ fontWeight: 650 }}>
        <Truth truth={why.allowed} /> {why.summary}
      </Typography>
      {served !== undefined && served !== null && served.allowed !== why.allowed && (
        <Typography sx={{ color: 'error.main' }}>
          The service itself answers {served.allowed ? 'yes' : 'no'}: the two must agree, so this is a defect
          of Firm Gate.
        </Typography>
      )}
      {why.stages.map((stage) => (
        <Stage key={stage.question} stage={stage} onSentence={onSentence} />
      ))}
      {why.remedies.length > 0 && (
        <Box>
          <Typography variant="h2" component="h3">
            It would be a yes
          </Typography>
          <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
            {why.remedies.map(({ text, edit }) => (
              <li key={text}>
                {text}
                {onEdit !== undefined &&
                  (edit?.choices ?? [])
                    .map((choice) => ({ choice, words: wordsOf(edit!, choice) }))
                    .map(({ choice, words }) => (
                      <Button
                        key={words}
                        size="small"
                        aria-label={`${text}: write ${words} into the draft`}
                        onClick={() => onEdit(edit!, choice)}
                        sx={{ py: 0, ml: 0.75, minWidth: 0 }}
                      >
                        + {words}
                      </Button>
                    ))}
              </li>
            ))}
          </Box>
        </Box>
      )}
    </Box>
  );
}

function wordsOf({ field }: SentenceEdit, choice: readonly string[]): string {
  return `${field === undefined ? '' : `${field} `}${choice.join(', ')}`;
}

type OnSentence = ((place: { readonly file: string; readonly line: number }) => void) | undefined;

function Stage({ stage, onSentence }: { stage: Explanation['stages'][number]; onSentence: OnSentence }) {
  const asked = stage.rules.filter((rule) => rule.sides !== null);
  const silent = stage.rules.filter((rule) => rule.sides === null);
  return (
    <Box component="section" aria-label={stage.question}>
      <Typography variant="h2" component="h3">
        <Truth truth={stage.answer} /> {stage.question}
      </Typography>
      {asked.length === 0 && <Typography>No rule here speaks of this caller.</Typography>}
      {asked.map((rule) => (
        <RuleView key={rule.id} rule={rule} onSentence={onSentence} />
      ))}
      {silent.length > 0 && (
        <Typography sx={{ color: 'text.secondary', fontSize: '0.78rem', mt: 0.5 }}>
          Not about this caller: {silent.map((rule) => rule.id).join(', ')}
        </Typography>
      )}
    </Box>
  );
}

function RuleView({ rule, onSentence }: { rule: Rule; onSentence: OnSentence }) {
  const all = rule.sides!;
  // What is the same before and after is said once.
  const isSame = all.length === 2 && JSON.stringify(all[0]!.part) === JSON.stringify(all[1]!.part);
  const sides = isSame ? [{ ...all[0]!, side: 'as it is, and as it would be' }] : all;
  const covers =
    rule.fields === null || (rule.fields.length === 0 && rule.kind === 'fence')
      ? ''
      : rule.fields.length === 0
        ? ', and covers none of these fields'
        : ` (${rule.fields.join(', ')})`;
  return (
    <Box sx={{ mt: 1, pl: 1.25, borderLeft: '3px solid', borderColor: 'divider' }}>
      <Typography sx={{ fontSize: '0.85rem' }}>
        <Truth truth={rule.truth} /> {rule.kind} <strong>{rule.id}</strong>
        {covers}
        <Box component="span" sx={{ color: 'text.secondary', ml: 1 }}>
          {onSentence !== undefined && rule.line > 0 ? (
            <Button
              size="small"
              sx={{ py: 0, fontSize: 'inherit' }}
              onClick={() => onSentence({ file: rule.file, line: rule.line })}
            >
              {rule.file}:{rule.line}
            </Button>
          ) : rule.line === 0 ? (
            rule.file
          ) : (
            `${rule.file}:${rule.line}`
          )}
        </Box>
      </Typography>
      <Typography sx={{ fontSize: '0.8rem' }}>{rule.sentence}</Typography>
      {rule.because !== null && (
        <Typography sx={{ fontSize: '0.78rem', color: 'text.secondary' }}>because {rule.because}</Typography>
      )}
      {sides.map(({ side, part }) =>
        part.text === 'always' || part.text === 'never' ? null : (
          <Box key={side}>
            {all.length > 1 && (
              <Typography sx={{ fontSize: '0.75rem', color: 'text.secondary', mt: 0.5 }}>{side}:</Typography>
            )}
            <PartView part={part} />
          </Box>
        ),
      )}
    </Box>
  );
}

function PartView({ part }: { part: PartDocument }) {
  const values = part.values.map(({ name, value }) => `${name} is ${value ?? 'not shown'}`);
  const said = [...values, ...(part.note === null ? [] : [part.note])].join('; ');
  return (
    <Box sx={{ fontSize: '0.8rem', pl: 1, mt: 0.25 }}>
      <Truth truth={part.truth} /> <code>{part.text}</code>
      {said !== '' && (
        <Box component="span" sx={{ color: 'text.secondary' }}>
          {' '}
          — {said}
        </Box>
      )}
      {part.parts.map((each, index) => (
        <PartView key={index} part={each} />
      ))}
    </Box>
  );
}

/** Yes, no, or unknown: a sign and a word beside the colour. */
export function Truth({ truth }: { truth: boolean | null }) {
  const [sign, word, color] =
    truth === null
      ? ['?', 'unknown', 'secondary.main']
      : truth
        ? ['✓', 'yes', 'primary.main']
        : ['✗', 'no', 'error.main'];
  return (
    <Box component="span" sx={{ color, fontWeight: 700 }}>
      <span aria-hidden>{sign}</span>
      <span style={visuallyHidden}>{word}:</span>
    </Box>
  );
}
