import type { Span } from '../language/span.ts';
import type { Findings } from './context.ts';

/** Filters come from end users: what costs much, and what speaks of the caller, is not for them. */
export function refuseInFilter(span: Span, findings: Findings): null {
  findings.add('R008', 'a filter speaks of the fields of a record, and compares them with values', span);
  return null;
}

/** Roles and attributes come first of all, so what is decided by them cannot be asked for them. */
export function refuseWorking(span: Span, findings: Findings): null {
  findings.add(
    'R013',
    'a role or an attribute is worked out before anything is decided',
    span,
    'ask for fields of people and of other records',
  );
  return null;
}

/** A value stands where a condition is needed. */
export function needsCondition(span: Span, type: string, findings: Findings): null {
  findings.add(
    'T004',
    `a condition is needed here, and this is a value (${type})`,
    span,
    'compare it with something',
  );
  return null;
}
