import { parseFile } from '../language/parser/index.ts';
import { positionAt } from '../language/source.ts';
import type { Span } from '../language/span.ts';
import { actionKey, type Rulebook } from '../ir/rulebook.ts';

/** Where a sentence or a declaration stands. */
export interface Place {
  /** Such as `rule hives/3`, `let on_duty`, `role office`. */
  readonly what: string;
  readonly file: string;
  readonly line: number;
}

/** Everything of a rulebook that has a name and can decide something. */
interface Declared {
  readonly what: string;
  readonly span: Span;
}

/** What was let happen: an operation, or an action, of a collection. */
export interface Happened {
  readonly collection: string;
  readonly operation: string;
}

/**
 * Where the sentences stand that let something happen, and the lets, roles and attributes that they name, over any number of steps, and the
 * action, where it is one: whoever looks for what is wrong finds it in one of these. `rules`: by id, of rules and fences.
 */
export function placesOf(
  rulebook: Rulebook,
  rules: Iterable<string>,
  { collection, operation }: Happened,
): Place[] {
  const declared = declaredIn(rulebook);
  const wanted = new Set(rules);
  const found = new Map<string, Declared>();
  for (const each of [...rulebook.rules, ...rulebook.fences])
    if (wanted.has(each.id))
      found.set(each.id, { what: `${'stamps' in each ? 'rule' : 'fence'} ${each.id}`, span: each.span });
  // The map grows while it is gone through: what is named names others.
  for (const { span } of found.values())
    for (const word of wordsAt(rulebook, span)) {
      const each = declared.get(word);
      if (each !== undefined && !found.has(word)) found.set(word, each);
    }
  const action = rulebook.actions.get(actionKey(collection, operation));
  if (action !== undefined) found.set('', { what: `action ${operation}`, span: action.span });
  return [...found.values()].map(({ what, span }) => placeAt(rulebook, what, span));
}

/** Where a field is declared; null: it is one that every collection has. */
export function placeOfField(rulebook: Rulebook, collection: string, field: string): Place | null {
  for (const source of rulebook.sources)
    for (const declaration of parseFile(source).declarations) {
      if (declaration.kind !== 'collection' || declaration.name.text !== collection) continue;
      const found = declaration.fields.find(({ name }) => name.text === field);
      if (found !== undefined) return placeAt(rulebook, `field ${collection}.${field}`, found.span);
    }
  return null;
}

/** `hives.gate:40 (rule hives/3)`. */
export function placeWords({ what, file, line }: Place): string {
  return `${file}:${line} (${what})`;
}

export function placeAt({ sources }: Pick<Rulebook, 'sources'>, what: string, span: Span): Place {
  const source = sources.find(({ name }) => name === span.source);
  return { what, file: span.source, line: source === undefined ? 0 : positionAt(source, span.start).line };
}

function wordsAt({ sources }: Rulebook, span: Span): Set<string> {
  const text = sources.find(({ name }) => name === span.source)?.text.slice(span.start, span.end) ?? '';
  return wordsOf(text);
}

/** The words of a text of the language; what stands in quotes is no name. */
export function wordsOf(text: string): Set<string> {
  return new Set(text.replace(/"(?:[^"\\]|\\.)*"/g, ' ').match(/[a-z_][a-z0-9_]*/g));
}

const known = new WeakMap<Rulebook, Map<string, Declared>>();

function declaredIn(rulebook: Rulebook): Map<string, Declared> {
  let declared = known.get(rulebook);
  if (declared === undefined) {
    declared = new Map();
    for (const declaration of rulebook.sources.flatMap((source) => parseFile(source).declarations))
      switch (declaration.kind) {
        case 'let':
        case 'role':
        case 'attribute':
        case 'claim':
          declared.set(declaration.name.text, {
            what: `${declaration.kind} ${declaration.name.text}`,
            span: declaration.span,
          });
          break;
        // Which of them it is, what happened tells: those of several collections may be called the same.
        case 'action':
        case 'collection':
        case 'rules':
        case 'accept':
        case 'invariant':
        case 'identity':
        case 'trial':
        case 'time zone':
          break;
      }
    known.set(rulebook, declared);
  }
  return declared;
}
