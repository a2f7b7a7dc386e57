import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import type { Completion } from '@codemirror/autocomplete';
import { memo, useEffect, useMemo, useRef, useState } from 'react';
import type { BenchError, BenchDocument } from '../../../client/desk.ts';
import { cardsOf, placeForNew, putAside, readSentences, takenBack, type Card } from '../../working/cards.ts';
import { replaced, textOf, type Stretch, type Text } from '../../working/texts.ts';
import { working, type Working } from '../../working/working.ts';
import { useAsForm } from '../../components/settings.ts';
import { PatternDialog } from './PatternDialog.tsx';
import type { Pointing } from './pointing.ts';
import { SentenceCard } from './SentenceCard.tsx';
import type { CountsOf } from './useBench.ts';
import type { FormOffer } from './SentenceForm.tsx';

export interface SentencePaneProps {
  readonly now: Working;
  readonly collection: string;
  readonly counts: CountsOf | undefined;
  readonly found: Pick<BenchDocument, 'errors' | 'advice' | 'problems'> | undefined;
  readonly words: readonly Completion[];
  readonly offer: FormOffer;
  readonly canWrite: boolean;
  /** The sentence that a line of why pointed at. */
  readonly pointed: { readonly file: string; readonly line: number } | null;
  /** What is under the pointer, or has the keyboard: the sentences that make it stand out. */
  readonly pointing: Pointing;
  /** A sentence that a cell asks for: opened to be written on. */
  readonly wanted: { readonly text: string } | null;
  readonly onWholeText: (file: string, at: number | null) => void;
}

/** The sentences of one collection, in the order of their texts. One of them at a time is open to be written in. */
export const SentencePane = memo(function SentencePane(props: SentencePaneProps) {
  const { now, collection, counts, found, words, offer, canWrite, pointed, pointing } = props;
  const [asForm, setAsForm] = useAsForm();
  const [open, setOpen] = useState<
    (Stretch & { readonly before: readonly Text[]; readonly turn: number }) | null
  >(null);
  const [note, setNote] = useState<string | null>(null);
  const [isPattern, setPattern] = useState(false);
  const frame = useRef<HTMLDivElement>(null);
  const turns = useRef(0);

  // What was taken back, or came from elsewhere, may have moved under the open card.
  const written = useRef<readonly Text[] | null>(null);
  useEffect(() => {
    if (open !== null && now.texts !== written.current) setOpen(null);
  }, [now.texts, open]);

  const cards = useMemo(() => cardsOf(now.texts, collection, open), [now.texts, collection, open]);
  const before = useMemo(
    () => new Set(cardsOf(now.baseTexts, collection, null).map(({ text }) => text)),
    [now.baseTexts, collection],
  );

  const change = (texts: readonly Text[], merging: string | null = null) => {
    working.change(texts, merging);
    written.current = working.current()!.texts;
  };
  const begin = (stretch: Stretch, texts: readonly Text[], old: readonly Text[] = texts) => {
    working.settle();
    if (texts !== now.texts) working.change(texts);
    written.current = working.current()!.texts;
    setOpen({ ...stretch, before: old, turn: ++turns.current });
    setNote(null);
  };
  /** Closes the open card where it can be read; false where it stays open. */
  const close = (): boolean => {
    if (open === null) return true;
    const text = textOf(now.texts, open.file).slice(open.start, open.end);
    if (text.trim() === '') {
      if (textOf(open.before, open.file) !== textOf(now.texts, open.file))
        change(withoutStretch(now.texts, open));
      setOpen(null);
      return true;
    }
    const { faults } = readSentences(text);
    if (faults.length > 0) {
      setNote(`It cannot be read yet: ${faults[0]!.message}. Put it right, or take it back.`);
      return false;
    }
    working.settle();
    setOpen(null);
    setNote(null);
    return true;
  };
  const remove = (card: Card) => {
    if (close()) change(withoutStretch(now.texts, card));
  };
  const aside = (card: Card) => {
    if (!close()) return;
    const text = textOf(now.texts, card.file);
    const put = card.kind === 'aside' ? takenBack(card.text) : putAside(text, card);
    if (put === null) {
      setNote('Another sentence stands on the same line: give each its own line first.');
      return;
    }
    change(replaced(now.texts, card, put));
  };
  const fix = (error: BenchError) => {
    const { fix: made, file } = error;
    if (made === undefined) return;
    const texts = replaced(now.texts, { file, start: made.start, end: made.end }, made.text);
    const grows = made.text.length - (made.end - made.start);
    if (open !== null && open.file === file && made.start >= open.start && made.end <= open.end)
      setOpen({ ...open, end: open.end + grows });
    else setOpen(null);
    change(texts);
  };

  const [seen, setSeen] = useState(props.wanted);
  useEffect(() => {
    if (props.wanted === null || props.wanted === seen) return;
    setSeen(props.wanted);
    if (!close()) return;
    const { text } = props.wanted;
    const { texts, at } = placeForNew(now.texts, collection);
    begin({ ...at, end: at.start + text.length }, replaced(texts, at, text), now.texts);
    // It is asked for once; what stands around it then is what counts.
    // oxlint-disable-next-line react-hooks/exhaustive-deps
  }, [props.wanted]);

  const pointedStart = useMemo(() => {
    if (pointed === null) return null;
    const text = textOf(now.texts, pointed.file);
    const at = text
      .split('\n')
      .slice(0, pointed.line - 1)
      .reduce((sum, line) => sum + line.length + 1, 0);
    const lineEnd = at + (text.slice(at).split('\n')[0] ?? '').length;
    return cards.find((card) => card.file === pointed.file && card.start <= lineEnd && card.end > at) ?? null;
  }, [pointed, cards, now.texts]);
  const turn = open?.turn;
  useEffect(() => {
    // A form is higher than its sentence: what was opened is seen whole, as far as there is room.
    if (turn !== undefined) frame.current?.querySelector('[data-open]')?.scrollIntoView({ block: 'nearest' });
  }, [turn, asForm]);
  useEffect(() => {
    if (pointedStart === null) return;
    frame.current
      ?.querySelector(`[data-card="${CSS.escape(pointedStart.file)}:${pointedStart.start}"]`)
      ?.scrollIntoView({ block: 'nearest', behavior: 'smooth' });
  }, [pointedStart]);

  const errors = found?.errors ?? [];
  const elsewhere = errors.filter(
    (error) =>
      !cards.some((card) => card.file === error.file && card.start <= error.start && error.start <= card.end),
  );
  // Counts of before are told until there are new ones: of the sentence that stands in the same place among those of its kind.
  const countsOf = (card: Card) => {
    const isFence = (each: Card) =>
      each.kind === 'fence' || (each.kind === 'open' && /^\s*nobody\b/.test(each.text));
    const kind = isFence(card) ? 'fence' : 'rule';
    const place = cards
      .filter((each) => each.kind !== 'aside' && isFence(each) === isFence(card))
      .indexOf(card);
    const all = counts?.sentences.filter((each) => each.kind === kind) ?? [];
    const counted = all.toSorted((one, other) => (one.file === other.file ? one.start - other.start : 0))[
      place
    ];
    if (counted === undefined || card.kind === 'aside') return null;
    return {
      operation: counted.operation,
      by: counted.counts.map((each, at) => ({ who: counts?.as[at] ?? '', ...each })),
    };
  };

  return (
    <Box
      ref={frame}
      sx={{
        display: 'flex',
        flexDirection: 'column',
        gap: 0.75,
        minHeight: 0,
        overflow: 'auto',
        p: '4px',
        pr: 1,
      }}
    >
      {note !== null && (
        <Alert severity="warning" variant="outlined" onClose={() => setNote(null)} sx={{ py: 0 }}>
          {note}
        </Alert>
      )}
      {elsewhere.slice(0, 5).map((error) => (
        <Alert
          key={`${error.file} ${error.start} ${error.code}`}
          severity="error"
          variant="outlined"
          sx={{ py: 0, fontSize: '0.78rem' }}
          action={
            <Button size="small" color="inherit" onClick={() => props.onWholeText(error.file, error.start)}>
              Go there
            </Button>
          }
        >
          {error.file}, line {error.line}: {error.message}
        </Alert>
      ))}
      {found?.problems.map((problem) => (
        <Alert key={problem} severity="error" variant="outlined" sx={{ py: 0, fontSize: '0.78rem' }}>
          {problem}
        </Alert>
      ))}
      {cards.length === 0 && (
        <Box sx={{ p: 1.5, color: 'text.secondary' }}>
          <Typography sx={{ fontWeight: 650, color: 'text.primary' }}>
            Closed: no sentence speaks of {collection}
          </Typography>
          <Typography sx={{ fontSize: '0.82rem' }}>
            Nobody reads or changes anything here until one does. Begin with whose records these are: “keeper
            may read (all) when mine”.
          </Typography>
        </Box>
      )}
      {cards.map((card) => {
        const isOpen = card.kind === 'open';
        return (
          <SentenceCard
            key={isOpen ? `open ${open!.turn}` : `${card.file} ${card.start}`}
            card={card}
            counts={countsOf(card)}
            errors={errors.filter(
              ({ file, start }) => file === card.file && card.start <= start && start <= card.end,
            )}
            words={words}
            offer={offer}
            asForm={asForm}
            onAsForm={setAsForm}
            isChanged={!isOpen && card.kind !== 'aside' && !before.has(card.text)}
            isPointed={
              pointedStart !== null && pointedStart.start === card.start && pointedStart.file === card.file
            }
            pointing={pointing}
            canWrite={canWrite}
            onOpen={() => {
              if (close()) begin(card, now.texts);
            }}
            onChange={(text) => {
              const texts = replaced(now.texts, open!, text);
              setOpen({ ...open!, end: open!.start + text.length });
              change(texts, `card ${open!.turn}`);
            }}
            onDone={close}
            onTakeBack={() => {
              const { before: old } = open!;
              setOpen(null);
              setNote(null);
              change(old);
            }}
            onAside={() => aside(card)}
            onDelete={() => remove(card)}
            onFix={fix}
          />
        );
      })}
      {canWrite && (
        <Box sx={{ display: 'flex', gap: 1 }}>
          <Button
            size="small"
            onClick={() => {
              if (!close()) return;
              const old = now.texts;
              const { texts, at } = placeForNew(now.texts, collection);
              // A form needs something to begin with; a text does not.
              const first = asForm ? beginning(offer) : '';
              begin({ ...at, end: at.start + first.length }, replaced(texts, at, first), old);
            }}
          >
            + Sentence
          </Button>
          <Button
            size="small"
            onClick={() => {
              if (close()) setPattern(true);
            }}
          >
            + From a pattern
          </Button>
          <Button
            size="small"
            onClick={() => {
              if (close())
                props.onWholeText(cards[0]?.file ?? now.texts[0]?.name ?? `${collection}.gate`, null);
            }}
          >
            The whole text
          </Button>
        </Box>
      )}
      <PatternDialog
        open={isPattern}
        collection={collection}
        onClose={(notes) => {
          setPattern(false);
          setNote(notes.length === 0 ? null : notes.join(' '));
        }}
      />
    </Box>
  );
});

/** The first words of a sentence for a form: read your own, or read. */
function beginning({ roles, isOwned }: FormOffer): string {
  return `${roles[0] ?? 'people'} may read (all)${isOwned ? ' when mine' : ''}`;
}

/** Takes a sentence out with its line, and one blank line of those around it. */
function withoutStretch(texts: readonly Text[], { file, start, end }: Stretch): Text[] {
  const text = textOf(texts, file);
  const lineStart = text.lastIndexOf('\n', start - 1) + 1;
  const lineEnd = text.indexOf('\n', end);
  const alone =
    text.slice(lineStart, start).trim() === '' &&
    text.slice(end, lineEnd === -1 ? undefined : lineEnd).trim() === '';
  if (!alone) return replaced(texts, { file, start, end }, '');
  const to = lineEnd === -1 ? text.length : lineEnd + 1;
  const isBlankBefore = /\n[ \t]*\n$/.test(text.slice(0, lineStart));
  const blank = isBlankBefore ? text.slice(0, lineStart).replace(/\n[ \t]*\n$/, '\n').length : lineStart;
  return replaced(texts, { file, start: blank, end: to }, '');
}
