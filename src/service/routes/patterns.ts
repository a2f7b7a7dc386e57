import type { Router } from 'express';
import { patternRequestSchema } from '../../client/schemas/patterns.ts';
import { gallery } from '../../core/patterns/gallery.ts';
import { patternNamed, writePattern } from '../../core/patterns/write.ts';
import { checkedDraft } from '../answers/drafts.ts';
import { parseInput } from '../answers/questions.ts';
import { atLeast } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import { rulebookBody } from './proof.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

/** Ready pieces of rulebook: the gallery, and one of them written for a collection of a draft. Nothing is saved. */
export function offerPatterns(router: Router): void {
  offer(router, '/patterns', {
    get(_, response) {
      atLeast(response, 'viewer', 'rulebook');
      const patterns = gallery.map(({ name, title, parameters }) => ({ name, title, parameters }));
      send(response, 200, { patterns });
    },
  });

  offer(
    router,
    '/patterns/:pattern',
    {
      post(request, response) {
        atLeast(response, 'author', 'rulebook');
        const pattern = patternNamed(request.params.pattern as string);
        if (typeof pattern === 'string') throw new Problem('not-found', { errors: [{ message: pattern }] });
        const body = jsonBody(request, ['application/json']);
        const { files, collection, parameters = {} } = parseInput(patternRequestSchema, body);
        const written = writePattern(pattern, checkedDraft({ files }), collection, parameters);
        // Problems are worded for the command line, which has an option for each parameter.
        if (!written.ok) throw fault(written.problem.replaceAll(/--(\w+)/g, '$1'));
        const free = ['', ...Array.from({ length: 500 }, (_, n) => `-${n + 2}`)]
          .map((suffix) => `${collection}-${pattern.name}${suffix}.gate`)
          .find((file) => !files.some(({ name }) => name === file))!;
        checkedDraft({ files: [...files, { name: free, text: written.text }] });
        send(response, 200, { file: free, text: written.text, notes: written.notes });
      },
    },
    rulebookBody,
  );
}

function fault(message: string): Problem {
  return new Problem('malformed-request', { errors: [{ message, field: 'parameters' }] });
}
