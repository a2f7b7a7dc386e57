import { checkRulebook } from '../../core/check/index.ts';
import { locate } from '../../core/diagnostics/render.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Source } from '../../core/language/source.ts';
import { rulebookFilesSchema } from '../../client/schemas/files.ts';
import { Problem } from '../problems/problem.ts';
import { parseInput } from './questions.ts';

/** The files of a body as a checked rulebook; 422 with every error otherwise. */
export function checkedDraft(body: Record<string, unknown>): Rulebook {
  const { files } = parseInput(rulebookFilesSchema, body);
  refuseRepeated(files);
  const checked = checkRulebook(files);
  if (checked.ok) return checked.rulebook;
  throw new Problem('rulebook-errors', {
    errors: checked.diagnostics.map((diagnostic) => locate(diagnostic, files)),
  });
}

/** Each file stands once: of two, nobody could tell which counts. */
export function refuseRepeated(files: readonly Source[]): void {
  const repeated = files.find((file, index) => files.findIndex(({ name }) => name === file.name) < index);
  if (repeated === undefined) return;
  throw new Problem('malformed-request', {
    errors: [{ message: `the file ${repeated.name} is given twice`, field: 'files' }],
  });
}
