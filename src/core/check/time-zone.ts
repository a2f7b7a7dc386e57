import type { TimeZoneDeclaration } from '../language/ast.ts';
import { UTC, isTimeZone } from '../types/time.ts';
import type { Findings } from './context.ts';

/** The time zone whose days count; UTC where the rulebook says nothing. It can say it once. */
export function checkTimeZone(declarations: readonly TimeZoneDeclaration[], findings: Findings): string {
  const [first, second] = declarations;
  if (first === undefined) return UTC;
  if (second !== undefined) {
    findings.add('N005', 'the time zone is declared twice', second.span, undefined, {
      span: first.span,
      message: 'it was declared first here',
    });
  }
  const { value, span } = first.name;
  if (isTimeZone(value)) return value;
  findings.add(
    'T015',
    `there is no time zone “${value}”`,
    span,
    'it is written as in the IANA time zone database, such as "Etc/GMT-2"; “CET” and the like are offsets',
  );
  return UTC;
}
