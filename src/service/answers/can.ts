import type { CanAnswer, CanDocument, CanQuery } from '../../client/schemas/can.ts';
import { couldDo } from '../../core/analysis/could.ts';
import type { Rights } from '../../core/analysis/rights.ts';
import { searchCreate } from '../../core/analysis/search.ts';
import { Decider } from '../../core/evaluate/decider.ts';
import { actionsOn, builtIn, type Rulebook } from '../../core/ir/rulebook.ts';
import { Access } from '../../core/sql/access.ts';
import { collectionOf, type Collection } from '../../core/types/schema.ts';
import { arrive, type Credentials } from '../../store/callers.ts';
import type { Database } from '../../store/connection.ts';
import { readRecord } from '../../store/records/read.ts';
import { rightsPlanOf } from '../../store/records/rights.ts';
import { LoadedWorld, TooMuchToLoad } from '../../store/world.ts';
import { Problem } from '../problems/problem.ts';
import { parseNames } from './questions.ts';
import { knownName, recordNamed } from './why.ts';

const no: CanDocument = { answer: 'no', fields: [] };

/** What front ends would be told of one operation, for staff. Whoever may not sign in may nothing. */
export async function canAnswer(
  database: Database,
  rulebook: Rulebook,
  credentials: Credentials,
  { operation, collection: named, record, fields }: Omit<CanQuery, 'as'>,
): Promise<CanDocument> {
  knownName('collection', named, [...rulebook.schema.keys()], 'collection');
  const collection = collectionOf(rulebook.schema, named);
  const actions = actionsOn(rulebook, named);
  knownName('operation', operation, [...builtIn, ...actions.map(({ name }) => name)], 'operation');
  const asked = fieldsAsked(collection, operation, fields);
  if ((record === undefined) !== (operation === 'create'))
    throw fault(
      'record',
      record === undefined ? 'name the record, by its id or label' : 'a record that is created has no id yet',
    );
  const id = record === undefined ? null : await recordNamed(database, rulebook, collection, record);
  // Records to make are thought through by closures, which want all that is shared named.
  const arrival = await arrive(database, rulebook, credentials, { toEvaluate: id === null });
  if (arrival === null) return no;
  const access = new Access(rulebook, arrival.caller, arrival.now);
  if (id === null) return creating(database, access, collection, asked);
  const found = await readRecord(database, access, named, id, rightsPlanOf(access, named));
  if (found === null) return no;
  const rights = found.rights!;
  switch (operation) {
    case 'read':
      return together(
        [...collection.fields.keys()],
        asked,
        (field) => (found.shown.has(field) ? 'yes' : 'no'),
        'yes',
      );
    case 'update':
      return together(ownFields(collection), asked, (field) => mayUpdate(rights, field));
    case 'delete':
      return plainly(rights.delete, rights.undecided?.delete === true);
    case 'share':
      return plainly(rights.share, false);
    default:
      return plainly(
        rights.actions.includes(operation),
        rights.undecided?.actions.includes(operation) === true,
      );
  }
}

async function creating(
  database: Database,
  { rulebook, caller, now }: Access,
  collection: Collection,
  asked: readonly string[] | null,
): Promise<CanDocument> {
  const could = couldDo(rulebook, caller, now, collection.name)?.create ?? null;
  if (could === null) return no;
  const world = new LoadedWorld(database, rulebook);
  const search = (supplying?: string) =>
    world
      .run(
        now,
        (loaded) => searchCreate(new Decider(rulebook, caller, loaded), collection.name, supplying).answer,
      )
      .catch((error: unknown): CanAnswer => {
        if (error instanceof TooMuchToLoad) return 'not decided';
        throw error;
      });
  const answer = await search();
  if (answer === 'no') return no;
  const found = new Map<string, CanAnswer>();
  for (const field of could.fields) if (asked?.includes(field) ?? true) found.set(field, await search(field));
  const of = (field: string): CanAnswer => found.get(field) ?? 'no';
  const { fields } = together(ownFields(collection), asked, of);
  const least = asked === null ? answer : leastOf([answer, ...fields.map((each) => each.answer)]);
  return { answer: least, fields };
}

/** All fields where none is asked for, and then one that is possible is enough. */
function together(
  all: readonly string[],
  asked: readonly string[] | null,
  of: (field: string) => CanAnswer,
  otherwise?: CanAnswer,
): CanDocument {
  const fields = (asked ?? all).map((field) => ({ field, answer: of(field) }));
  const answers = fields.map(({ answer }) => answer);
  if (asked !== null) return { answer: leastOf(answers), fields };
  const most = answers.includes('yes') ? 'yes' : answers.includes('not decided') ? 'not decided' : 'no';
  const answer = otherwise ?? most;
  return { answer, fields: answer === 'no' ? [] : fields };
}

function leastOf(answers: readonly CanAnswer[]): CanAnswer {
  return answers.includes('no') ? 'no' : answers.includes('not decided') ? 'not decided' : 'yes';
}

function mayUpdate({ update, undecided }: Rights, field: string): CanAnswer {
  if (update.includes(field)) return 'yes';
  return undecided?.update.includes(field) === true ? 'not decided' : 'no';
}

function plainly(may: boolean, isOpen: boolean): CanDocument {
  return { answer: may ? 'yes' : isOpen ? 'not decided' : 'no', fields: [] };
}

function ownFields({ fields }: Collection): string[] {
  return [...fields.values()].filter(({ system }) => !system).map(({ name }) => name);
}

function fieldsAsked(
  collection: Collection,
  operation: string,
  text: string | undefined,
): readonly string[] | null {
  if (text === undefined) return null;
  if (operation !== 'read' && operation !== 'create' && operation !== 'update')
    throw fault('fields', `${operation} is asked of the record, and not of its fields`);
  const known = operation === 'read' ? [...collection.fields.keys()] : ownFields(collection);
  return parseNames(text, 'fields', new Set(known));
}

function fault(field: string, message: string): Problem {
  return new Problem('malformed-request', { errors: [{ message, field }] });
}
