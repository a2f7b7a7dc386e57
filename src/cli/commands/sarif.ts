import type { Log, Region, ReportingDescriptor, Result } from 'sarif';
import { adviceKinds, type Advice } from '../../core/analysis/advice/index.ts';
import { codes } from '../../core/diagnostics/codes.ts';
import type { Diagnostic } from '../../core/diagnostics/diagnostic.ts';
import { positionAt, type Source } from '../../core/language/source.ts';
import type { Span } from '../../core/language/span.ts';

/** Errors and advice as a SARIF 2.1.0 log, which code hosts and editors show in place. */
export function sarifLog(
  sources: readonly Source[],
  diagnostics: readonly Diagnostic[],
  advice: readonly Advice[],
): Log {
  const rules: ReportingDescriptor[] = [
    ...Object.entries(codes).map(([id, text]) => ({ id, shortDescription: { text } })),
    ...adviceKinds.map(({ code, title, explanation }) => ({
      id: code,
      shortDescription: { text: title },
      fullDescription: { text: explanation },
      defaultConfiguration: { level: 'warning' as const },
    })),
  ];
  const result = (ruleId: string, level: Result['level'] & string, text: string, span: Span): Result => ({
    ruleId,
    ruleIndex: rules.findIndex((rule) => rule.id === ruleId),
    level,
    message: { text },
    locations: [
      {
        physicalLocation: { artifactLocation: { uri: uriOf(span.source) }, region: regionOf(span, sources) },
      },
    ],
  });
  return {
    $schema: 'https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json',
    version: '2.1.0',
    runs: [
      {
        tool: { driver: { name: 'Firm Gate', rules } },
        columnKind: 'unicodeCodePoints',
        results: [
          ...diagnostics.map((each) => result(each.code, 'error', each.message, each.span)),
          ...advice.map((each) => ({
            ...result(each.kind.code, 'warning', each.message, each.span),
            ...(each.fix === undefined ? {} : { fixes: [fixOf(each.fix, sources)] }),
          })),
        ],
      },
    ],
  };
}

function fixOf({ description, span, text }: NonNullable<Advice['fix']>, sources: readonly Source[]) {
  return {
    description: { text: description },
    artifactChanges: [
      {
        artifactLocation: { uri: uriOf(span.source) },
        replacements: [{ deletedRegion: regionOf(span, sources), insertedContent: { text } }],
      },
    ],
  };
}

/** A file name as a relative URI reference (RFC 3986). */
function uriOf(file: string): string {
  return file.split('/').map(encodeURIComponent).join('/');
}

/** Lines and columns from 1; the end column is the one behind the last character. */
function regionOf({ source: name, start, end }: Span, sources: readonly Source[]): Region {
  const source = sources.find((each) => each.name === name)!;
  const [from, to] = [positionAt(source, start), positionAt(source, end)];
  return { startLine: from.line, startColumn: from.column, endLine: to.line, endColumn: to.column };
}
