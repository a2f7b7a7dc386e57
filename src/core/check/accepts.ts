import { suggestion } from '../diagnostics/suggest.ts';
import type { AcceptDeclaration } from '../language/ast.ts';
import type { AcceptedReach, Attribute, Role, Rulebook } from '../ir/rulebook.ts';
import { writtenAt, type Findings } from './context.ts';
import { checkConcerned } from './fences.ts';
import type { Known } from './known.ts';
import { checkAudience } from './rules.ts';
import { unknownCollection } from './schema.ts';

/** What the rulebook says is meant to be so, with reasons. */
export interface Accepted extends Pick<Rulebook, 'acceptedReach' | 'ownerless'> {
  /** `COLLECTION NAME`: records of the collection decide about callers for the role, attribute or collection, as is meant. */
  readonly feeds: ReadonlySet<string>;
}

/** Checks every `accept`: all that it names must be there. */
export function checkAccepts(
  declarations: readonly AcceptDeclaration[],
  roles: ReadonlyMap<string, Role>,
  attributes: ReadonlyMap<string, Attribute>,
  known: Known,
  findings: Findings,
): Accepted {
  const feeds = new Set<string>();
  const ownerless = new Map<string, string>();
  const acceptedReach: AcceptedReach[] = [];
  for (const { collection: named, accepted, because, span } of declarations) {
    const collection = known.schema.get(named.text);
    if (collection === undefined) unknownCollection(named, known.schema.keys(), findings);
    switch (accepted.kind) {
      case 'feeds': {
        const { feeds: fed } = accepted;
        if (!roles.has(fed.text) && !attributes.has(fed.text) && !known.schema.has(fed.text)) {
          const hint = suggestion(fed.text, [...roles.keys(), ...attributes.keys(), ...known.schema.keys()]);
          findings.add('N012', `there is no role, attribute or collection “${fed.text}”`, fed.span, hint);
        }
        feeds.add(`${named.text} ${fed.text}`);
        break;
      }
      case 'without owner':
        ownerless.set(named.text, because);
        break;
      case 'reach': {
        const audience = checkAudience(accepted.who, known.roles, findings);
        if (collection === undefined) break;
        acceptedReach.push({
          audience,
          collection: collection.name,
          operations: checkConcerned(accepted.operations, collection, known, findings),
          because,
          text: writtenAt(known.sources, span),
          span,
        });
      }
    }
  }
  return { feeds, ownerless, acceptedReach };
}
