import { checkRulebook } from '../../core/check/index.ts';
import { locate } from '../../core/diagnostics/render.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Schema } from '../../core/types/schema.ts';
import { rulebookFilesSchema } from '../../client/schemas/desk.ts';
import { Problem } from '../problems/problem.ts';
import { parseInput } from './questions.ts';

/** The files of a body as a checked rulebook; 422 with every error otherwise. */
export function checkedDraft(body: Record<string, unknown>): Rulebook {
  const { files } = parseInput(rulebookFilesSchema, body);
  const repeated = files.find((file, index) => files.findIndex((other) => other.name === file.name) < index);
  if (repeated !== undefined) {
    throw new Problem('malformed-request', {
      errors: [{ message: `the file ${repeated.name} is given twice`, field: 'files' }],
    });
  }
  const checked = checkRulebook(files);
  if (checked.ok) return checked.rulebook;
  throw new Problem('rulebook-errors', {
    errors: checked.diagnostics.map((diagnostic) => locate(diagnostic, files)),
  });
}

/** Trials run against the tables that are there, so a draft may change rules, and collections only by publishing. */
export function refuseOtherCollections(drafted: Schema, published: Schema): void {
  if (describeSchema(drafted) === describeSchema(published)) return;
  throw new Problem('cannot-publish', {
    errors: [
      {
        message:
          'the collections of these files differ from the published ones: publish first, then run the trials',
      },
    ],
  });
}

/** The same text for schemas over the same collections and fields, wherever they are kept. */
export function describeSchema(schema: Schema): string {
  const collections = [...schema.values()].map(({ name, fields, label }) => ({
    name,
    label,
    fields: [...fields.values()].map(({ column: _, ...field }) => field),
  }));
  return JSON.stringify(collections.toSorted((a, b) => (a.name < b.name ? -1 : 1)));
}
