import type { Diagnostic } from '../diagnostics/diagnostic.ts';
import type { Declaration } from '../language/ast.ts';
import { limits } from '../language/limits.ts';
import { parseFile, parseFilter, type Parsed } from '../language/parser/index.ts';
import type { Source } from '../language/source.ts';
import { nodesOf, type Condition } from '../ir/conditions.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { checkAccepts } from './accepts.ts';
import { checkActions } from './actions.ts';
import { attributeTypes, checkAttributes } from './attributes.ts';
import { refuseCircles } from './circles.ts';
import { checkCondition } from './conditions.ts';
import { Findings, atMost } from './context.ts';
import type { Known } from './known.ts';
import { cellsOf, sourcesOf } from './of-the-caller.ts';
import { refuseRaising } from './raising.ts';
import { checkFences } from './fences.ts';
import { checkInvariants } from './invariants.ts';
import { checkLets } from './lets.ts';
import { checkRoles, declaredRoles } from './roles.ts';
import { checkRules } from './rules.ts';
import { checkSchema } from './schema.ts';
import { plainScope } from './scope.ts';
import { checkIdentities } from './identities.ts';
import { checkTimeZone } from './time-zone.ts';
import { checkSuccession } from './succession.ts';
import { checkTrials } from './trials.ts';

export type CheckedRulebook =
  | { readonly ok: true; readonly rulebook: Rulebook }
  | { readonly ok: false; readonly diagnostics: readonly Diagnostic[] };

/**
 * Parses and checks all files of a rulebook; their order does not matter.
 * Answers the rulebook, or every error of every file (up to `limits.diagnostics`), never both.
 */
export function checkRulebook(sources: readonly Source[]): CheckedRulebook {
  const parsed = sources.map(parseFile);
  const findings = new Findings();
  const declarations = parsed.flatMap((file) => file.declarations);
  const of = <K extends Declaration['kind']>(kind: K) =>
    declarations.filter((each): each is Declaration & { kind: K } => each.kind === kind);

  const schema = checkSchema(atMost(of('collection'), limits.collections, 'collections', findings), findings);
  const timeZone = checkTimeZone(of('time zone'), findings);
  const given = atMost([...of('attribute'), ...of('claim')], limits.attributes, 'attributes', findings);
  const types = attributeTypes(given, schema, findings);
  const declared = declaredRoles(atMost(of('role'), limits.roles, 'roles', findings), findings);
  const actions = checkActions(of('action'), schema, timeZone, types, findings);
  const roleNames = new Set(declared.keys());
  const scopeOf = checkLets(of('let'), schema, roleNames, types, timeZone, findings);
  const known: Known = { sources, schema, timeZone, roles: roleNames, actions, scopeOf };
  const attributes = checkAttributes(given, types, scopeOf, findings);
  const roles = checkRoles(declared, schema, actions, scopeOf, findings);
  const rules = checkRules(of('rules'), known, findings);
  const fences = checkFences(of('rules'), known, findings);
  refuseCircles(rules, fences, findings);
  const accepted = checkAccepts(of('accept'), roles, attributes, known, findings);
  const deciding = sourcesOf(rules, fences, roles, attributes, actions);
  refuseRaising(deciding, rules, actions, roles, schema, accepted, findings);
  const invariants = checkInvariants(of('invariant'), known, findings);
  const identities = checkIdentities(of('identity'), roles, schema, timeZone, findings);
  const trials = checkTrials(of('trial'), new Set(identities.keys()), known, findings);

  const succession = checkSuccession(
    { collections: of('collection'), roles: of('role'), attributes: given },
    schema,
    findings,
  );

  const diagnostics = [
    ...parsed.flatMap((file) => file.diagnostics),
    ...findings.diagnostics.filter((each) => !isUnread(each, sources, parsed)),
  ];
  if (diagnostics.length > 0) return { ok: false, diagnostics: inReadingOrder(diagnostics) };
  return {
    ok: true,
    rulebook: {
      version: null,
      sources,
      schema,
      timeZone,
      roles,
      attributes,
      actions,
      rules,
      fences,
      ofTheCaller: cellsOf(deciding),
      identities,
      trials,
      invariants,
      acceptedReach: accepted.acceptedReach,
      ownerless: accepted.ownerless,
      succession,
    },
  };
}

/** Is it said of a name whose declaration stands there, and could not be read? That it could not is said already. */
function isUnread(
  { code, span }: Diagnostic,
  sources: readonly Source[],
  parsed: readonly Parsed[],
): boolean {
  if (!UNKNOWN.has(code)) return false;
  const text = sources.find(({ name }) => name === span.source)!.text.slice(span.start, span.end);
  return parsed.some(({ unread }) => unread.has(text.replace(/^me\./, '')));
}

/** Codes for names that nothing declares. */
const UNKNOWN: ReadonlySet<string> = new Set(['N001', 'N002', 'N003', 'N004', 'N007', 'N011', 'N012']);

/** Checks a caller's filter against a collection: fields and literals only, nothing of the caller. */
export function checkFilter(
  text: string,
  collection: string,
  { schema, timeZone }: Pick<Rulebook, 'schema' | 'timeZone'>,
):
  | { readonly ok: true; readonly condition: Condition }
  | { readonly ok: false; readonly diagnostics: readonly Diagnostic[] } {
  const parsed = parseFilter({ name: 'where', text });
  if (parsed.expression === null) return { ok: false, diagnostics: parsed.diagnostics };
  const findings = new Findings();
  const scope = { ...plainScope(schema, timeZone), record: collection, filter: true };
  const condition = checkCondition(parsed.expression, scope, findings);
  if (condition !== null && lookups(condition) > limits.filterLookups) {
    const message = `the paths of a filter may come through at most ${limits.filterLookups} other records in all`;
    findings.add('P003', message, parsed.expression.span, 'ask with fewer or shorter paths');
  }
  if (condition !== null && comparisonsOf(condition) > limits.filterParts) {
    const message = `a filter has at most ${limits.filterParts} comparisons`;
    findings.add('P003', message, parsed.expression.span, 'write many values of one field as FIELD in (…)');
  }
  if (condition === null || findings.diagnostics.length > 0)
    return { ok: false, diagnostics: findings.diagnostics };
  return { ok: true, condition };
}

function comparisonsOf(condition: Condition): number {
  return nodesOf(condition).filter(({ kind }) => comparing.has(kind)).length;
}

const comparing: ReadonlySet<string> = new Set<Condition['kind']>([
  'equal', 'less', 'at most', 'contains', 'starts with', 'ends with', 'member', 'within', 'among', 'missing', 'holds',
]); // prettier-ignore

function lookups(condition: Condition): number {
  let count = 0;
  for (const node of nodesOf(condition)) {
    if (node.kind === 'path') count += node.steps.length - 1;
    if (node.kind === 'within') count += LOOKUPS_WITHIN;
  }
  return count;
}

/** What going up a tree counts for: as many levels as most trees have. */
const LOOKUPS_WITHIN = 4;

/** A sentence for several collections is checked for each, and what is wrong with it for all is told once. */
function inReadingOrder(diagnostics: readonly Diagnostic[]): Diagnostic[] {
  const once = new Map(
    diagnostics.map((each) => [
      JSON.stringify([each.code, each.message, each.span.source, each.span.start, each.span.end]),
      each,
    ]),
  );
  return [...once.values()].toSorted((a, b) =>
    a.span.source === b.span.source ? a.span.start - b.span.start : a.span.source < b.span.source ? -1 : 1,
  );
}
