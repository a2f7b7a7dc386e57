import fc, { type Arbitrary } from 'fast-check';
import type { Declaration, Expression } from '../../src/core/language/ast.ts';
import { parseFile } from '../../src/core/language/parser/index.ts';
import { format } from '../../src/core/language/printer.ts';
import type { Span } from '../../src/core/language/span.ts';

/**
 * The smallest rulebook that still fails, as fast-check finds it: which sentences and declarations are left out, and
 * then which conditions are cut down to one of their parts. What is left can be pasted into a test. `fails` must answer
 * false for a text that is no rulebook.
 */
export async function shrink(text: string, fails: (text: string) => Promise<boolean>): Promise<string> {
  const pieces = piecesOf(text);
  const some = await smallest(fc.subarray(pieces), pieces, (each) => fails(assembled(each)));
  let small = assembled(some);
  for (;;) {
    const next = await firstOf(simpler(small), fails);
    if (next === null) break;
    small = next;
  }
  const laidOut = format({ name: 'shrunk.gate', text: small });
  return laidOut.ok ? laidOut.text : small;
}

/** Goes down fast-check's own tree of smaller values for as long as they fail. */
async function smallest<T>(
  arbitrary: Arbitrary<T>,
  start: T,
  fails: (value: T) => Promise<boolean>,
): Promise<T> {
  let value = start;
  let context: unknown;
  for (;;) {
    let smaller = null;
    for (const each of arbitrary.shrink(value, context)) {
      if (!(await fails(each.value))) continue;
      smaller = each;
      break;
    }
    if (smaller === null) return value;
    value = smaller.value;
    context = smaller.context;
  }
}

async function firstOf(
  texts: Iterable<string>,
  fails: (text: string) => Promise<boolean>,
): Promise<string | null> {
  for (const text of texts) if (await fails(text)) return text;
  return null;
}

/** A sentence of a block of rules stands by itself, so that each can be left out. */
function piecesOf(text: string): string[] {
  const written = ({ start, end }: Span) => text.slice(start, end);
  return parseFile({ name: 'whole.gate', text }).declarations.flatMap((declaration) =>
    declaration.kind === 'rules'
      ? [...declaration.sentences, ...declaration.fences].map(
          (each) => `rules ${declaration.collections[0]!.text} { ${written(each.span)} }`,
        )
      : [written(declaration.span)],
  );
}

function assembled(pieces: readonly string[]): string {
  return pieces.join('\n');
}

/** The same text with one condition replaced by true or by one of its parts; larger steps first. */
function* simpler(text: string): Generator<string> {
  const { declarations } = parseFile({ name: 'small.gate', text });
  for (const declaration of declarations) {
    if (declaration.kind === 'role' && declaration.inclusions.length > 0 && declaration.when === null)
      yield cut(text, declaration.span, `role ${declaration.name.text}`);
  }
  for (const condition of declarations.flatMap(conditionsOf)) {
    for (const [place, part] of partsOf(condition))
      yield cut(text, place, part === null ? 'true' : `(${text.slice(part.start, part.end)})`);
  }
}

function cut(text: string, { start, end }: Span, instead: string): string {
  return text.slice(0, start) + instead + text.slice(end);
}

/** Each condition of a declaration. */
function conditionsOf(declaration: Declaration): Expression[] {
  switch (declaration.kind) {
    case 'rules':
      return [
        ...declaration.sentences.map((each) => each.when),
        ...declaration.fences.map((each) => each.unless),
      ].filter((each) => each !== null);
    case 'let':
      return [declaration.body];
    case 'role':
      return declaration.when === null ? [] : [declaration.when];
    case 'attribute':
      return declaration.value.kind === 'every' && declaration.value.where !== null
        ? [declaration.value.where]
        : [];
    default:
      return [];
  }
}

/** Places and what may stand there instead; null: nothing is asked. */
function* partsOf(condition: Expression): Generator<[Span, Span | null]> {
  const inner =
    condition.kind === 'and' || condition.kind === 'or'
      ? condition.operands
      : condition.kind === 'not'
        ? [condition.operand]
        : condition.kind === 'quantified'
          ? [condition.body]
          : [];
  if (condition.kind !== 'boolean') yield [condition.span, null];
  // The body of a “some” speaks of its variable, so it cannot stand alone.
  if (condition.kind !== 'quantified') for (const part of inner) yield [condition.span, part.span];
  for (const part of inner) yield* partsOf(part);
}
