import type { Request, Response, Router } from 'express';
import {
  draftChangesSchema,
  draftFilesSchema,
  draftNameSchema,
  newDraftSchema,
  rebaseSchema,
  type DraftDocument,
} from '../../client/schemas/drafts.ts';
import { adviceOn } from '../../core/analysis/advice/index.ts';
import type { Conflict } from '../../core/analysis/merge.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { locate } from '../../core/diagnostics/render.ts';
import { positionAt, type Source } from '../../core/language/source.ts';
import type { Database } from '../../store/connection.ts';
import {
  MOST_DRAFTS,
  deleteDraft,
  draftNamed,
  filesOfSave,
  listDrafts,
  makeDraft,
  rebaseDraft,
  replaceInDraft,
  saveDraft,
  savesOf,
  type DraftWithFiles,
  type Saved,
} from '../../store/drafts/index.ts';
import { publishedFiles } from '../../store/publish/index.ts';
import { refuseRepeated } from '../answers/drafts.ts';
import { parseInput } from '../answers/questions.ts';
import { actorOf, atLeast } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import { rulebookBody } from './proof.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

const JSON_TYPES = ['application/json'];

/** Drafts that several people work on. Below `/v1/desk`, for staff. */
export function offerDrafts(router: Router, database: Database, version: () => Promise<number | null>): void {
  offer(
    router,
    '/drafts',
    {
      async get(_, response) {
        atLeast(response, 'viewer', 'rulebook');
        send(response, 200, { drafts: (await listDrafts(database)).map(({ id: _id, ...draft }) => draft) });
      },
      async post(request, response) {
        atLeast(response, 'author', 'rulebook');
        const asked = parseInput(newDraftSchema, jsonBody(request, JSON_TYPES));
        const base = asked.base ?? (await version()) ?? 0;
        const files = asked.files ?? (base === 0 ? null : await publishedFiles(database, base));
        if (files === null) throw fault('base', base === 0 ? 'nothing is published: send the files' : `there is no version ${base}`); // prettier-ignore
        refuseRepeated(files);
        const about = { files, base, message: asked.message ?? null };
        const made = await makeDraft(database, asked.name, about, actorOf(response));
        if (made === 'taken') throw new Problem('name-taken', { errors: [{ message: `there is a draft “${asked.name}” already`, field: 'name' }] }); // prettier-ignore
        if (made === 'too many') throw fault('name', `there are ${MOST_DRAFTS} drafts: delete one first`);
        response.set('Location', `/v1/desk/drafts/${asked.name}`);
        await sendDraft(response, 201, asked.name);
      },
    },
    rulebookBody,
  );

  offer(
    router,
    '/drafts/:draft',
    {
      async get(request, response) {
        atLeast(response, 'viewer', 'rulebook');
        await sendDraft(response, 200, nameOf(request));
      },
      async put(request, response) {
        atLeast(response, 'author', 'rulebook');
        const { files, message = null } = parseInput(draftFilesSchema, jsonBody(request, JSON_TYPES));
        refuseRepeated(files);
        const draft = await theDraft(nameOf(request));
        const from = saveOf(request, draft);
        if (from === null)
          throw new Problem('precondition-required', { errors: [{ message: 'say in If-Match which save these files were made from' }] }); // prettier-ignore
        await answer(
          response,
          draft.name,
          await saveDraft(database, draft.name, { files, from, message }, actorOf(response)),
        );
      },
      async patch(request, response) {
        atLeast(response, 'author', 'rulebook');
        const { changes, message = null } = parseInput(draftChangesSchema, jsonBody(request, JSON_TYPES));
        const { name } = await theDraft(nameOf(request));
        await answer(
          response,
          name,
          await replaceInDraft(database, name, { changes, message }, actorOf(response)),
        );
      },
      async delete(request, response) {
        atLeast(response, 'author', 'rulebook');
        const draft = await theDraft(nameOf(request));
        const gone = await deleteDraft(database, draft.name, saveOf(request, draft), actorOf(response));
        if (!gone) throw new Problem('changed-meanwhile');
        response.status(204).end();
      },
    },
    rulebookBody,
  );

  offer(router, '/drafts/:draft/rebase', {
    async post(request, response) {
      atLeast(response, 'author', 'rulebook');
      const { onto } = parseInput(rebaseSchema, jsonBody(request, JSON_TYPES));
      const { name } = await theDraft(nameOf(request));
      const to = onto ?? (await version()) ?? 0;
      const saved = await rebaseDraft(database, name, to, actorOf(response));
      if (saved.kind === 'gone') throw fault('onto', `there is no version ${to}`);
      await answer(response, name, saved);
    },
  });

  offer(router, '/drafts/:draft/saves', {
    async get(request, response) {
      atLeast(response, 'viewer', 'rulebook');
      send(response, 200, { saves: await savesOf(database, await theDraft(nameOf(request))) });
    },
  });

  offer(router, '/drafts/:draft/saves/:save', {
    async get(request, response) {
      atLeast(response, 'viewer', 'rulebook');
      const draft = await theDraft(nameOf(request));
      const named = request.params.save as string;
      const save = /^[1-9]\d{0,8}$/.test(named) ? Number(named) : 0;
      const files = await filesOfSave(database, draft, save);
      if (files === null) throw new Problem('not-found', { errors: [{ message: 'there is no such save, or it is not kept any more' }] }); // prettier-ignore
      send(response, 200, { save, files });
    },
  });

  async function theDraft(name: string): Promise<DraftWithFiles> {
    const draft = await draftNamed(database, name);
    if (draft === null) throw new Problem('not-found', { errors: [{ message: 'there is no such draft' }] });
    return draft;
  }

  async function answer(response: Response, name: string, saved: Saved): Promise<void> {
    if (saved.kind === 'gone') throw new Problem('changed-meanwhile');
    if (saved.kind === 'conflict')
      throw new Problem('draft-conflict', { errors: saved.conflicts.map(conflictEntry) });
    await sendDraft(response, 200, name, saved.merged);
  }

  async function sendDraft(response: Response, status: number, name: string, merged = false): Promise<void> {
    const { id, ...draft } = await theDraft(name);
    response.set('ETag', tagOf({ id, save: draft.save }));
    const document: DraftDocument = {
      ...draft,
      files: [...draft.files],
      merged,
      inForce: await version(),
      ...foundIn(draft.files),
    };
    send(response, status, document);
  }
}

function nameOf(request: Request): string {
  const parsed = draftNameSchema.safeParse(request.params.draft);
  if (!parsed.success) throw new Problem('not-found', { errors: [{ message: 'there is no such draft' }] });
  return parsed.data;
}

function tagOf({ id, save }: { readonly id: string; readonly save: number }): string {
  return `"${id}.${save}"`;
}

/** The save that If-Match names (RFC 9110); null: none. Of another draft, or of none: 412. */
function saveOf(request: Request, { id }: DraftWithFiles): number | null {
  const header = request.headers['if-match']?.trim();
  if (header === undefined) return null;
  const parts = /^"([0-9a-f-]{36})\.([1-9]\d{0,8})"$/.exec(header);
  if (parts?.[1] !== id) throw new Problem('changed-meanwhile');
  return Number(parts[2]);
}

function conflictEntry({ file, base, mine, theirs }: Conflict) {
  const shown = (text: string) => (text === '' ? 'nothing' : `“${text.slice(0, 2_000)}”`);
  return { message: `it was ${shown(base)}; you have ${shown(mine)}, and there is ${shown(theirs)}`, file };
}

/** Errors and advice, with their places. */
function foundIn(files: readonly Source[]): Pick<DraftDocument, 'errors' | 'advice'> {
  const checked = checkRulebook(files);
  if (!checked.ok)
    return { errors: checked.diagnostics.map((diagnostic) => locate(diagnostic, files)), advice: [] };
  const advice = adviceOn(checked.rulebook).map(({ kind, message, span }) => {
    const { line, column } = positionAt(
      files.find(({ name }) => name === span.source)!,
      span.start,
    );
    return { code: kind.code, message, file: span.source, line, column };
  });
  return { errors: [], advice };
}

function fault(field: string, message: string): Problem {
  return new Problem('malformed-request', { errors: [{ message, field }] });
}
