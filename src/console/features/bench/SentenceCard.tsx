import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { visuallyHidden } from '@mui/utils';
import type { Completion } from '@codemirror/autocomplete';
import { memo, useMemo, useRef, useState } from 'react';
import type { BenchError } from '../../../client/desk.ts';
import { Code } from '../../code/Code.tsx';
import { CodeEditor } from '../../code/CodeEditor.tsx';
import { takenBack, type Card } from '../../working/cards.ts';
import { useIsMaking, type Pointing } from './pointing.ts';
import { SentenceForm, type FormOffer } from './SentenceForm.tsx';

/** What a sentence opens, or holds back, for one of those pinned. */
export interface CardCount {
  readonly who: string;
  readonly own: number;
  readonly shared: number;
}

export interface SentenceCardProps {
  readonly card: Card;
  readonly counts: { readonly operation: string | null; readonly by: readonly CardCount[] } | null;
  readonly errors: readonly BenchError[];
  /** The words of the card; its errors count from its start. */
  readonly words: readonly Completion[];
  readonly offer: FormOffer;
  readonly asForm: boolean;
  readonly onAsForm: (asForm: boolean) => void;
  readonly isChanged: boolean;
  readonly isPointed: boolean;
  readonly pointing: Pointing;
  readonly canWrite: boolean;
  readonly onOpen: () => void;
  readonly onChange: (text: string) => void;
  readonly onDone: () => void;
  readonly onTakeBack: () => void;
  readonly onAside: () => void;
  readonly onDelete: () => void;
  readonly onFix: (error: BenchError) => void;
}

const edge: Readonly<Record<Card['kind'], string>> = {
  rule: 'primary.main',
  fence: 'error.main',
  aside: 'divider',
  open: 'secondary.main',
};

/** One sentence: to be read, or to be written. */
export const SentenceCard = memo(function SentenceCard(props: SentenceCardProps) {
  const { card, counts, errors, isChanged, isPointed, pointing, canWrite } = props;
  const frame = useRef<HTMLElement>(null);
  const isMaking = useIsMaking(pointing, card, frame);
  const isOpen = card.kind === 'open';
  const shown = card.kind === 'aside' ? takenBack(card.text) : card.text;
  return (
    <Box
      ref={frame}
      component="article"
      aria-label={`${kindName[card.kind]}: ${firstWords(shown)}`}
      data-card={`${card.file}:${card.start}`}
      {...(isOpen ? { 'data-open': true } : {})}
      {...(isMaking ? { 'data-making': true } : {})}
      sx={{
        borderLeft: '4px solid',
        borderLeftColor: edge[card.kind],
        bgcolor: 'background.paper',
        borderRadius: 1,
        px: 1,
        py: 0.75,
        outline: isOpen || isPointed || isMaking ? '1.5px solid' : '1px solid',
        outlineColor: isOpen || isPointed ? 'secondary.main' : isMaking ? edge[card.kind] : 'divider',
      }}
    >
      {isOpen ? (
        <Writing {...props} />
      ) : (
        <Box
          {...(canWrite && card.kind !== 'aside'
            ? {
                role: 'button',
                tabIndex: 0,
                onClick: props.onOpen,
                onKeyDown: (event: React.KeyboardEvent) => {
                  if (event.key !== 'Enter' && event.key !== ' ') return;
                  event.preventDefault();
                  props.onOpen();
                },
              }
            : {})}
          sx={{
            cursor: canWrite && card.kind !== 'aside' ? 'text' : 'default',
            opacity: card.kind === 'aside' ? 0.7 : 1,
            textDecoration: card.kind === 'aside' ? 'line-through' : 'none',
            '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main', outlineOffset: 2 },
          }}
        >
          {canWrite && card.kind !== 'aside' && <span style={visuallyHidden}>Write in: </span>}
          <Code text={evenLines(shown)} />
        </Box>
      )}
      {errors.map((error) => (
        <Typography
          key={`${error.code} ${error.start}`}
          role="alert"
          sx={{ color: 'error.main', fontSize: '0.76rem', mt: 0.5 }}
        >
          {error.message}
          {error.hint === undefined ? '' : ` — ${error.hint}`}{' '}
          {error.fix !== undefined && (
            <Button
              size="small"
              variant="outlined"
              color="inherit"
              sx={small}
              onClick={() => props.onFix(error)}
            >
              {error.fix.description}
            </Button>
          )}
        </Typography>
      ))}
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, mt: 0.25, minHeight: 22, flexWrap: 'wrap' }}>
        <Counts card={card} counts={counts} isChanged={isChanged} />
        {canWrite && (
          <Box sx={{ display: 'flex', gap: 0.5, ml: 'auto' }}>
            {isOpen ? (
              <>
                <Button size="small" sx={small} onClick={props.onTakeBack}>
                  Take back
                </Button>
                <Button size="small" sx={small} variant="outlined" onClick={props.onDone}>
                  Done
                </Button>
              </>
            ) : (
              <>
                <Button size="small" sx={small} onClick={props.onAside}>
                  {card.kind === 'aside' ? 'Put back' : 'Put aside'}
                </Button>
                <Button size="small" sx={small} color="error" onClick={props.onDelete}>
                  Delete
                </Button>
              </>
            )}
          </Box>
        )}
      </Box>
    </Box>
  );
});

/** The open card: as text, or as a form; the two are the same text. */
function Writing({ card, errors, words, offer, asForm, onAsForm, onChange, onDone }: SentenceCardProps) {
  const [switched, setSwitched] = useState(false);
  const faults = useMemo(
    () =>
      errors.map(({ start, end, message }) => ({
        start: start - card.start,
        end: end - card.start,
        message,
      })),
    [errors, card.start],
  );
  const turn = (next: boolean) => {
    setSwitched(true);
    onAsForm(next);
  };
  return (
    <Box sx={{ display: 'grid', gap: 0.5 }}>
      <Box
        role="group"
        aria-label="Written as"
        sx={{ display: 'flex', gap: 0.25, justifyContent: 'flex-end' }}
      >
        {[false, true].map((form) => (
          <Button
            key={String(form)}
            size="small"
            aria-pressed={asForm === form}
            variant={asForm === form ? 'outlined' : 'text'}
            sx={small}
            onClick={() => turn(form)}
          >
            {form ? 'Form' : 'Text'}
          </Button>
        ))}
      </Box>
      {asForm ? (
        <SentenceForm text={card.text} offer={offer} onChange={onChange} />
      ) : (
        <CodeEditor
          label="Sentence"
          text={card.text}
          faults={faults}
          words={words}
          onChange={onChange}
          onDone={onDone}
          onLeave={onDone}
          autoFocus={!switched || !asForm}
        />
      )}
    </Box>
  );
}

const small = { py: 0, px: 0.75, fontSize: '0.73rem', lineHeight: 1.6 } as const;

const kindName: Readonly<Record<Card['kind'], string>> = {
  rule: 'Rule',
  fence: 'Fence',
  aside: 'Put aside',
  open: 'Being written',
};

function Counts({
  card,
  counts,
  isChanged,
}: {
  card: Card;
  counts: SentenceCardProps['counts'];
  isChanged: boolean;
}) {
  const told = counts?.by.filter(({ own }) => own > 0) ?? [];
  const shared = told.filter((each) => each.shared > 0);
  const verb = card.kind === 'fence' ? 'holds back' : 'opens';
  return (
    <Typography component="span" sx={{ fontSize: '0.73rem', color: 'text.secondary' }}>
      {isChanged && (
        <Box component="strong" sx={{ color: 'secondary.main', mr: 0.75 }}>
          changed
        </Box>
      )}
      {card.collections.length > 1 && `also for ${card.collections.length - 1} more · `}
      {card.kind === 'aside'
        ? 'put aside: not part of the rules'
        : counts === null
          ? ' '
          : counts.operation === null
            ? 'creating: not counted'
            : told.length === 0
              ? `${verb} nothing for those pinned`
              : `${counts.operation === 'read' ? '' : `${counts.operation}: `}${told.map(({ who, own }) => `${who} ${own}`).join(' · ')}`}
      {shared.length > 0 &&
        ` (${shared.map((each) => `${each.who} ${each.shared}`).join(', ')} by another, too)`}
    </Typography>
  );
}

function firstWords(text: string): string {
  const line = text.replaceAll(/\s+/g, ' ').trim();
  return line.length > 120 ? `${line.slice(0, 117)}…` : line;
}

/** The lines after the first without the margin of the block that they stand in. */
function evenLines(text: string): string {
  const [first = '', ...rest] = text.split('\n');
  const margins = rest.filter((line) => line.trim() !== '').map((line) => /^[ \t]*/.exec(line)![0].length);
  const margin = Math.min(...margins, 40);
  return [first, ...rest.map((line) => `  ${line.slice(margin)}`)].join('\n');
}
