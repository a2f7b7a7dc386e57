import type { Fence, Rule, Rulebook } from '../ir/rulebook.ts';
import { fieldNow, renamesSaid, type Renames } from '../passage/renames.ts';
import { parseFile } from '../language/parser/index.ts';
import type { Declaration as Parsed } from '../language/ast.ts';
import { tokenize } from '../language/lexer.ts';
import type { Span } from '../language/span.ts';

/** One sentence or declaration that is not the same in both of two rulebooks. */
export interface Difference {
  /** Such as `rule of hives`, `field hives.code`, `role keeper`, `trial "…"`. */
  readonly what: string;
  /** The collection that it is about by itself; null: none. */
  readonly collection: string | null;
  readonly how: 'new' | 'changed' | 'gone';
  readonly was: string | null;
  readonly is: string | null;
  /** What it comes to, in a sentence. */
  readonly words: string;
  /** It is called otherwise, and says the same. */
  readonly called: boolean;
}

/**
 * What differs between two rulebooks, by sentence and declaration; where and in which order they stand does not count, nor does how
 * they are laid out. Sentences have no names: they are paired by equal text, then by whom they speak of and what they allow, then by whom and
 * on which condition; the rest is new or gone. What is called otherwise now is paired by `renames`. Cost: once through both.
 */
export function differencesBetween(
  before: Rulebook,
  after: Rulebook,
  renames: Renames = renamesSaid(before, after),
): Difference[] {
  return [
    ...declared(before, after, renames),
    ...sentences(asCalledNow(written(before, before.rules), renames), written(after, after.rules), ruleWords),
    ...sentences(
      asCalledNow(written(before, before.fences), renames),
      written(after, after.fences),
      fenceWords,
    ),
  ];
}

/** Everything that has a name, by it. */
function declared(before: Rulebook, after: Rulebook, renames: Renames): Difference[] {
  const called = new Map<string, string>();
  const was = new Map(
    [...named(before)].map(([what, each]) => {
      const now = whatNow(what, renames);
      if (now !== what && !what.startsWith('accept ')) called.set(now, what);
      const text = textNow(each.text, each.collection, renames);
      return [now, { ...each, text }];
    }),
  );
  const is = named(after);
  return [...new Set([...was.keys(), ...is.keys()])].flatMap((what): Difference[] => {
    const [old, now] = [was.get(what), is.get(what)];
    const name = called.get(what);
    const same = old?.text === now?.text;
    if (same && name === undefined) return [];
    const how = old === undefined ? 'new' : now === undefined ? 'gone' : 'changed';
    const collection = (now ?? old)!.collection;
    const renamed =
      name === undefined
        ? ''
        : `${shortName(name)} is called ${shortName(what)} now, and keeps what it holds${same ? '' : ': '}`;
    const words = {
      new: `new: ${now?.text}`,
      gone: `gone: ${old?.text}`,
      changed: same ? renamed : `${renamed}“${old?.text}” is “${now?.text}” now`,
    }[how];
    return [
      {
        what,
        collection,
        how,
        was: old?.text ?? null,
        is: now?.text ?? null,
        words,
        called: same && how === 'changed',
      },
    ];
  });
}

/** What something that was called so is called now. */
function whatNow(what: string, renames: Renames): string {
  const [kind = '', name = ''] = what.split(' ');
  switch (kind) {
    case 'collection':
      return `collection ${renames.collections.get(name) ?? name}`;
    case 'field':
      return `field ${fieldNow(renames, ...(name.split('.') as [string, string])).join('.')}`;
    case 'role':
      return `role ${renames.roles.get(name) ?? name}`;
    case 'attribute':
    case 'claim':
      return `${kind} ${renames.attributes.get(name) ?? name}`;
    case 'accept':
      return textNow(what, null, renames);
    default:
      return what;
  }
}

function shortName(what: string): string {
  return what.slice(what.indexOf(' ') + 1);
}

interface Named {
  readonly collection: string | null;
  readonly text: string;
}

function named({ sources }: Rulebook): Map<string, Named> {
  const found = new Map<string, Named>();
  for (const source of sources) {
    const textAt = ({ start, end }: Span) => plain(source.text.slice(start, end));
    for (const declaration of parseFile(source).declarations)
      for (const [what, collection, said] of namesOf(declaration, textAt)) {
        const text = withoutWas(said);
        // Two of one name, such as two trials, stand as one text.
        const known = found.get(what);
        found.set(what, { collection, text: known === undefined ? text : `${known.text}\n${text}` });
      }
  }
  return found;
}

/** What something was called is no part of what it is. */
function withoutWas(text: string): string {
  return text.replaceAll(/"(?:[^"\\]|\\.)*"|(?<=\S) was [a-z_][a-z0-9_]*/g, (part) =>
    part.startsWith('"') ? part : '',
  );
}

type Named3 = readonly [what: string, collection: string | null, text: string];

function namesOf(declaration: Parsed, textAt: (span: Span) => string): Named3[] {
  switch (declaration.kind) {
    case 'collection': {
      const { name, title, fields, owners, tree } = declaration;
      const parts = [
        `collection ${name.text}`,
        ...(title === null ? [] : [JSON.stringify(title)]),
        ...(owners.length === 0 ? [] : [`owned by ${owners.map((each) => textAt(each.span)).join(', ')}`]),
        ...(tree === null ? [] : [`tree by ${tree.text}`]),
      ];
      return [
        [`collection ${name.text}`, name.text, parts.join(' ')],
        ...fields.map((field): Named3 => [
          `field ${name.text}.${field.name.text}`,
          name.text,
          textAt(field.span),
        ]),
      ];
    }
    case 'let':
    case 'role':
    case 'attribute':
    case 'claim':
    case 'action':
    case 'identity': {
      const { kind, name, span } = declaration;
      return [[`${kind === 'identity' ? 'test identity' : kind} ${name.text}`, null, textAt(span)]];
    }
    case 'invariant':
    case 'trial': {
      const { kind, span } = declaration;
      const text = textAt(span);
      return [[`${kind} ${/"(?:[^"\\]|\\.)*"/.exec(text)?.[0] ?? ''}`, null, text]];
    }
    case 'accept':
    case 'time zone': {
      const text = textAt(declaration.span);
      return [[declaration.kind === 'accept' ? text.replace(/ because .*$/, '') : 'time zone', null, text]];
    }
    case 'rules':
      return [];
  }
}

/** Without what only lays it out. */
function plain(text: string): string {
  return text
    .replaceAll(/"(?:[^"\\]|\\.)*"|\/\/[^\n]*/g, (part) => (part.startsWith('//') ? ' ' : part))
    .replaceAll(/\s+/g, ' ')
    .trim();
}

/** With its whole text, as it was written but for its layout. */
type Sentence = (Rule | Fence) & { readonly whole: string };

function written({ sources }: Rulebook, sentences: readonly (Rule | Fence)[]): Sentence[] {
  const texts = new Map(sources.map(({ name, text }) => [name, text]));
  return sentences.map((each) => ({
    ...each,
    whole: plain(texts.get(each.span.source)!.slice(each.span.start, each.span.end)),
  }));
}

/** Sentences of before with the names of now, so that those are told alone that say something else. */
function asCalledNow(all: readonly Sentence[], renames: Renames): Sentence[] {
  const roles = (names: ReadonlySet<string>) =>
    new Set([...names].map((each) => renames.roles.get(each) ?? each));
  return all.map((each): Sentence => {
    const { collection } = each;
    const now = renames.collections.get(collection) ?? collection;
    const fields = (names: ReadonlySet<string> | null) =>
      names === null ? null : new Set([...names].map((name) => fieldNow(renames, collection, name)[1]));
    const called = {
      collection: now,
      text: textNow(each.text, collection, renames),
      whole: textNow(each.whole, collection, renames),
      operations: new Map([...each.operations].map(([operation, names]) => [operation, fields(names)])),
    };
    return (
      'audience' in each
        ? { ...each, ...called, audience: { ...each.audience, roles: roles(each.audience.roles) } }
        : { ...each, ...called, exempt: roles(each.exempt) }
    ) as Sentence;
  });
}

/**
 * A text with the names of now: collections, roles, and fields of the collection that it is about. What stands behind a point is of
 * another record, and stays: such a sentence is told as changed rather than not at all.
 */
function textNow(text: string, collection: string | null, renames: Renames): string {
  const own =
    collection === null ? undefined : renames.fields.get(renames.collections.get(collection) ?? collection);
  if (renames.collections.size + renames.roles.size + (own?.size ?? 0) === 0) return text;
  const { tokens } = tokenize({ name: '', text });
  let written = '';
  let at = 0;
  for (const [index, token] of tokens.entries()) {
    const before = tokens[index - 1];
    if (token.kind !== 'name' || (before?.kind === 'symbol' && before.text === '.')) continue;
    const now = own?.get(token.text) ?? renames.collections.get(token.text) ?? renames.roles.get(token.text);
    if (now === undefined) continue;
    written += text.slice(at, token.span.start) + now;
    at = token.span.end;
  }
  return written + text.slice(at);
}

type Words = (was: Sentence | null, is: Sentence | null) => string;

function sentences(before: readonly Sentence[], after: readonly Sentence[], words: Words): Difference[] {
  const left = [...before];
  const take = (isIt: (each: Sentence) => boolean): Sentence | null => {
    const at = left.findIndex(isIt);
    return at < 0 ? null : left.splice(at, 1)[0]!;
  };
  const fresh = after.filter((each) => take((other) => sameText(each, other)) === null);
  const changed = fresh.map((is) => ({
    was: take((other) => other.collection === is.collection && aboutOf(other) === aboutOf(is)),
    is,
  }));
  const pairs = changed.map(({ was, is }) => ({ was: was ?? take((other) => doesOther(other, is)), is }));
  const told = (was: Sentence | null, is: Sentence | null): Difference => ({
    what: `${'audience' in (is ?? was)! ? 'rule' : 'fence'} of ${(is ?? was)!.collection}`,
    collection: (is ?? was)!.collection,
    how: was === null ? 'new' : is === null ? 'gone' : 'changed',
    was: was?.whole ?? null,
    is: is?.whole ?? null,
    words: words(was, is),
    called: false,
  });
  return [...pairs.map(({ was, is }) => told(was, is)), ...left.map((was) => told(was, null))];
}

function sameText(one: Sentence, other: Sentence): boolean {
  return (
    one.collection === other.collection && one.whole === other.whole && fieldsOf(one) === fieldsOf(other)
  );
}

/** Do they speak of the same people on the same condition, and share something that these may do? */
function doesOther(one: Sentence, other: Sentence): boolean {
  return (
    'audience' in one &&
    'audience' in other &&
    one.collection === other.collection &&
    audienceWords(one) === audienceWords(other) &&
    whenOf(one) === whenOf(other) &&
    [...one.operations.keys()].some((operation) => other.operations.has(operation))
  );
}

/** What a sentence covers counts, too: `(all)` is another list where a field has come. */
function fieldsOf({ operations }: Sentence): string {
  return [...operations].map(([operation, fields]) => `${operation} ${[...(fields ?? [])].join()}`).join(';');
}

/** Whom a sentence speaks of, and for what: two that share it are one that has changed. */
function aboutOf(sentence: Sentence): string {
  const who =
    'audience' in sentence ? audienceWords(sentence) : `but ${[...sentence.exempt].toSorted().join()}`;
  return `${who} ${[...sentence.operations.keys()].toSorted().join()}`;
}

function audienceWords({ audience }: Pick<Rule, 'audience'>): string {
  const { everybody, people, visitors, roles } = audience;
  return [
    ...(everybody ? ['everybody'] : []),
    ...(people ? ['people'] : []),
    ...(visitors ? ['visitors'] : []),
    ...[...roles].toSorted(),
  ].join(', ');
}

function ruleWords(was: Sentence | null, is: Sentence | null): string {
  const rule = (is ?? was) as Rule & Sentence;
  const may = `${audienceWords(rule)} may`;
  const does = `${[...rule.operations.keys()].join(', ')} ${rule.collection}`;
  const said = plain(rule.text).replace(/^.*?\bmay /, '');
  const rest = /^[a-z_, ]+$/.test(said) ? `${said} ${rule.collection}` : said;
  if (was === null) return `${may} now also ${rest}`;
  if (is === null) return `${audienceWords(rule)} may no longer ${rest}, unless another rule lets them`;
  const parts = changedFields(was, is);
  const [before, now] = [whenOf(was as Rule), whenOf(rule)];
  if (before !== now)
    parts.push(
      `${now === '' ? 'always' : now.trim()}, and no longer ${before === '' ? 'always' : before.trim()}`,
    );
  if (parts.length === 0) parts.push('with other stamps, or for another reason');
  return `${may} ${does}: ${parts.join('; ')}`;
}

function fenceWords(was: Sentence | null, is: Sentence | null): string {
  const fence = (is ?? was) as Fence & Sentence;
  const does = `${[...fence.operations.keys()].join(', ')} ${fence.collection}`;
  const but = (each: Fence) =>
    each.exempt.size === 0 ? 'nobody' : `nobody but ${[...each.exempt].toSorted().join(', ')}`;
  if (was === null) return `a new fence: ${plain(fence.text)}`;
  if (is === null) return `a fence is gone: ${plain(fence.text)}`;
  const parts = changedFields(was, is);
  if (plain(was.text) !== plain(is.text)) parts.push(`“${plain(was.text)}” is “${plain(is.text)}” now`);
  if (parts.length === 0) parts.push('for another reason');
  return `${but(fence)} may ${does}: ${parts.join('; ')}`;
}

function whenOf({ text }: Rule): string {
  return /\bwhen\b.*$/s.exec(plain(text))?.[0].replace(/^/, ' ') ?? '';
}

function changedFields(was: Sentence, is: Sentence): string[] {
  const gone = [...was.operations.keys()].filter((operation) => !is.operations.has(operation));
  const parts = [...is.operations].flatMap(([operation, now]) => {
    const before = was.operations.get(operation);
    if (before === undefined)
      return [`now also ${operation}${now === null || now.size === 0 ? '' : ` (${[...now].join(', ')})`}`];
    if (now === null || before === null) return [];
    const more = [...now].filter((field) => !before.has(field));
    const less = [...before].filter((field) => !now.has(field));
    return [
      ...(more.length > 0 ? [`${operation} also ${more.join(', ')}`] : []),
      ...(less.length > 0 ? [`${operation} no longer ${less.join(', ')}`] : []),
    ];
  });
  return [...parts, ...gone.map((operation) => `no longer ${operation}`)];
}
