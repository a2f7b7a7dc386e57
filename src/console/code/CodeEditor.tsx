import Box from '@mui/material/Box';
import { autocompletion, completeFromList, type Completion } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
import {
  Annotation,
  Compartment,
  EditorState,
  RangeSetBuilder,
  StateEffect,
  StateField,
} from '@codemirror/state';
import {
  Decoration,
  EditorView,
  ViewPlugin,
  drawSelection,
  highlightSpecialChars,
  keymap,
  lineNumbers,
  type DecorationSet,
  type ViewUpdate,
} from '@codemirror/view';
import { useEffect, useLayoutEffect, useRef } from 'react';
import { nonce } from '../nonce.ts';
import { MONO } from '../theme.ts';
import { codeStyles, tones } from './highlight.ts';

export interface Fault {
  readonly start: number;
  readonly end: number;
  readonly message: string;
}

export interface CodeEditorProps {
  readonly label: string;
  readonly text: string;
  readonly faults: readonly Fault[];
  /** Words that are offered while writing, beside those of the language. */
  readonly words: readonly Completion[];
  readonly onChange: (text: string) => void;
  /** Escape, where no list of words is open. */
  readonly onLeave?: () => void;
  /** Control and Enter. */
  readonly onDone?: () => void;
  readonly withLines?: boolean;
  readonly autoFocus?: boolean;
  /** A place to go to, such as a fault that somebody clicked on. */
  readonly goTo?: { readonly at: number } | null;
}

/** Rules, to be written. What is typed is told at once; a text that comes from elsewhere replaces what stands there. */
export function CodeEditor(props: CodeEditorProps) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const latest = useRef(props);
  const words = useRef(new Compartment());
  useLayoutEffect(() => {
    latest.current = props;
  });
  const { label, text, faults, goTo } = props;

  useEffect(() => {
    const { withLines = false, autoFocus = false } = latest.current;
    const editor = new EditorView({
      parent: host.current!,
      state: EditorState.create({
        doc: latest.current.text,
        extensions: [
          EditorView.cspNonce.of(nonce),
          ...(withLines ? [lineNumbers()] : []),
          history(),
          drawSelection(),
          highlightSpecialChars(),
          EditorView.lineWrapping,
          highlighting,
          wrong,
          words.current.of(offering(latest.current)),
          EditorView.contentAttributes.of({
            'aria-label': label,
            spellcheck: 'false',
            autocapitalize: 'off',
          }),
          keymap.of([
            { key: 'Mod-Enter', run: () => (latest.current.onDone?.(), latest.current.onDone !== undefined) },
            ...historyKeymap,
            ...defaultKeymap,
            // Whoever works by keys gets out of the text by Escape first.
            { key: 'Escape', run: () => (latest.current.onLeave?.(), latest.current.onLeave !== undefined) },
            ...(withLines ? [indentWithTab] : []),
          ]),
          EditorView.updateListener.of((update) => {
            if (
              update.docChanged &&
              !update.transactions.some((each) => each.annotation(fromElsewhere) === true)
            )
              latest.current.onChange(update.state.doc.toString());
          }),
          look,
        ],
      }),
    });
    view.current = editor;
    if (autoFocus) {
      editor.dispatch({ selection: { anchor: editor.state.doc.length } });
      editor.focus();
    }
    return () => editor.destroy();
  }, [label]);

  useEffect(() => {
    const editor = view.current!;
    const now = editor.state.doc.toString();
    if (now === text) return;
    editor.dispatch({
      changes: { from: 0, to: now.length, insert: text },
      annotations: fromElsewhere.of(true),
    });
  }, [text]);

  useEffect(() => {
    view.current!.dispatch({ effects: setWrong.of(faults) });
  }, [faults]);

  useEffect(() => {
    view.current!.dispatch({ effects: words.current.reconfigure(offering(latest.current)) });
  }, [props.words]);

  useEffect(() => {
    if (goTo === null || goTo === undefined) return;
    const at = Math.min(goTo.at, view.current!.state.doc.length);
    view.current!.dispatch({
      selection: { anchor: at },
      effects: EditorView.scrollIntoView(at, { y: 'center' }),
    });
    view.current!.focus();
  }, [goTo]);

  return (
    <Box
      ref={host}
      sx={{ height: props.withLines === true ? '100%' : 'auto', minHeight: 0, ...codeStyles }}
    />
  );
}

const fromElsewhere = Annotation.define<boolean>();

/** Below a sentence of a few lines stands what ends it: the list of words is not to lie over that. */
function offering({ words, withLines = false }: Pick<CodeEditorProps, 'words' | 'withLines'>) {
  return autocompletion({
    override: [completeFromList(words)],
    icons: false,
    activateOnTyping: true,
    aboveCursor: !withLines,
  });
}

const marks = Object.fromEntries(
  (['word', 'name', 'text', 'number', 'sign', 'comment'] as const).map((tone) => [
    tone,
    Decoration.mark({ class: `fg-code-${tone}` }),
  ]),
);

/** Colours what is in view; the text is read whole, as a comment or a quote may begin anywhere. */
const highlighting = ViewPlugin.fromClass(
  class {
    decorations: DecorationSet;
    #tones;
    constructor(view: EditorView) {
      this.#tones = tones(view.state.doc.toString());
      this.decorations = this.#visible(view);
    }
    update(update: ViewUpdate) {
      if (update.docChanged) this.#tones = tones(update.state.doc.toString());
      if (update.docChanged || update.viewportChanged) this.decorations = this.#visible(update.view);
    }
    #visible(view: EditorView): DecorationSet {
      const builder = new RangeSetBuilder<Decoration>();
      const { from, to } = view.viewport;
      for (const { start, end, tone } of this.#tones)
        if (end > from && start < to) builder.add(start, end, marks[tone]!);
      return builder.finish();
    }
  },
  { decorations: (plugin) => plugin.decorations },
);

const setWrong = StateEffect.define<readonly Fault[]>();

const wrong = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(before, transaction) {
    let set = before.map(transaction.changes);
    for (const effect of transaction.effects)
      if (effect.is(setWrong)) {
        const { length } = transaction.state.doc;
        const all = effect.value.flatMap(({ start, end, message }) => {
          const [from, to] = [Math.min(start, length), Math.min(Math.max(end, start + 1), length)];
          return from >= to
            ? []
            : [Decoration.mark({ class: 'fg-code-wrong', attributes: { title: message } }).range(from, to)];
        });
        set = Decoration.set(all, true);
      }
    return set;
  },
  provide: (field) => EditorView.decorations.from(field),
});

const look = EditorView.theme({
  '&': {
    fontSize: '0.76rem',
    color: 'var(--mui-palette-text-primary)',
    backgroundColor: 'transparent',
    height: '100%',
  },
  '&.cm-focused': { outline: 'none' },
  '.cm-scroller': { fontFamily: MONO(), lineHeight: '1.5' },
  '.cm-content': { padding: '2px 0', caretColor: 'var(--mui-palette-text-primary)' },
  '.cm-line': { padding: '0 2px' },
  '.cm-cursor': { borderLeftColor: 'var(--mui-palette-text-primary)' },
  '.cm-gutters': {
    backgroundColor: 'transparent',
    color: 'var(--mui-palette-text-secondary)',
    borderRight: '1px solid var(--mui-palette-divider)',
  },
  '.cm-selectionBackground, &.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground': {
    backgroundColor: 'color-mix(in srgb, var(--mui-palette-secondary-main) 30%, transparent)',
  },
  '.cm-tooltip': {
    backgroundColor: 'var(--mui-palette-background-paper)',
    border: '1px solid var(--mui-palette-divider)',
    color: 'var(--mui-palette-text-primary)',
  },
  '.cm-tooltip-autocomplete ul li[aria-selected]': {
    backgroundColor: 'var(--mui-palette-primary-main)',
    color: 'var(--mui-palette-primary-contrastText)',
  },
});
