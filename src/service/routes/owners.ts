import { parse } from 'csv-parse/sync';
import type { Router } from 'express';
import { ownerAssignmentSchema } from '../../client/schemas/owners.ts';
import { checkFilter } from '../../core/check/index.ts';
import type { PathOperand } from '../../core/ir/conditions.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { PEOPLE, type Collection } from '../../core/types/schema.ts';
import { note } from '../../store/audit/index.ts';
import type { Database } from '../../store/connection.ts';
import {
  assignOwners,
  ownerless,
  recordsNamed,
  undoAssignment,
  type NewOwner,
} from '../../store/owners/index.ts';
import { claimedAmong, peopleNamed, type Person } from '../../store/people/index.ts';
import { classify } from '../../store/failures.ts';
import { collectionNamed, parseInput } from '../answers/questions.ts';
import { actorOf, atLeast, unlocked } from '../identity/principal.ts';
import { jsonReader } from '../input/body.ts';
import { Problem } from '../problems/problem.ts';
import { send } from './records.ts';
import { jsonBody, offer } from './route.ts';

/** Lines of a list, and faults of it that are named. */
const MOST_LINES = 20_000;
const MOST_NAMED = 50;

const listBody = jsonReader('4mb');

/** Owners for the records that are there already. Below `/v1/desk`, for staff. */
export function offerOwners(router: Router, database: Database, inForce: () => Promise<Rulebook>): void {
  offer(
    router,
    '/owners/:collection',
    {
      async get(request, response) {
        atLeast(response, 'viewer', 'look');
        const rulebook = await inForce();
        const collection = collectionNamed(rulebook, request.params.collection as string);
        refuseOwnerless(collection);
        await note(database, actorOf(response), 'look.owners', collection.name);
        send(response, 200, {
          collection: collection.name,
          owned_by: collection.owners.map((path) => path.join('.')),
          ...(await ownerless(database, rulebook, collection.name)),
          accepted: rulebook.ownerless.get(collection.name) ?? null,
        });
      },

      async post(request, response) {
        const actor = await unlocked(database, response, 'publisher', 'people');
        const rulebook = await inForce();
        const collection = collectionNamed(rulebook, request.params.collection as string);
        refuseOwnerless(collection);
        const asked = parseInput(ownerAssignmentSchema, jsonBody(request, ['application/json']));
        const where = asked.where === undefined ? null : conditionOf(asked.where, collection, rulebook);
        const owner = await newOwner(asked, collection, rulebook);
        // A look is a question with full sight, and leaves nothing else behind.
        if (asked.look)
          await note(database, actor, 'look.owners', collection.name, { where: asked.where ?? null });
        try {
          const assigned = await assignOwners(
            database,
            rulebook,
            {
              collection: collection.name,
              field: fieldOf(asked.field, collection),
              owner,
              where,
              look: asked.look,
            },
            actor,
          );
          send(response, 200, assigned);
        } catch (error) {
          // One owner of two records where the field is unique.
          if (classify(error).kind === 'unique')
            throw new Problem('value-taken', { fields: [fieldOf(asked.field, collection)] });
          throw error;
        }
      },
    },
    listBody,
  );

  offer(router, '/owners/assignments/:id', {
    async delete(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const id = request.params.id as string;
      if (!UUID.test(id)) throw new Problem('not-found');
      const undone = await undoAssignment(database, await inForce(), id, actor);
      if (undone.ok) {
        send(response, 200, { records: undone.records });
        return;
      }
      if (undone.why === 'not found') throw new Problem('not-found');
      const message = {
        'undone already': 'it has been undone already',
        'field gone': 'the rulebook no longer has the field',
        'changed since': `${'records' in undone ? undone.records : 0} of its records have been changed since: nothing was taken back`,
      }[undone.why];
      throw new Problem('cannot-undo', { errors: [{ message }] });
    },
  });

  async function newOwner(
    { to, by, list }: { to?: string | undefined; by?: string | undefined; list?: string | undefined },
    collection: Collection,
    rulebook: Rulebook,
  ): Promise<NewOwner> {
    if (by !== undefined) return { kind: 'path', path: pathOf(by, collection, rulebook) };
    if (list !== undefined) return listed(list, collection, rulebook);
    const [person] = await known([to!]);
    if (person === undefined || typeof person === 'string')
      throw fault('to', person ?? `there is no one person “${to}”`);
    return { kind: 'person', id: person.id };
  }

  /** Each as a person, or what is wrong with them, in a sentence. */
  async function known(texts: readonly string[]): Promise<(Person | string)[]> {
    const found = await peopleNamed(database, texts);
    const claimed = await claimedAmong(
      database,
      [...found.values()].map(({ id }) => id),
    );
    return texts.map((text) => {
      const person = found.get(text);
      if (person === undefined) return `there is no one person “${text}”`;
      // Whoever entered an address for themself is not thereby whom it names.
      return text.includes('@') && claimed.has(person.id)
        ? `the address “${text}” was entered by somebody for themself, and nobody has verified it: name them by id`
        : person;
    });
  }

  async function listed(text: string, collection: Collection, rulebook: Rulebook): Promise<NewOwner> {
    let rows: { record: string[]; info: { lines: number } }[];
    try {
      rows = parse(text, {
        info: true,
        bom: true,
        trim: true,
        skip_empty_lines: true,
        relax_column_count: true,
      }) as unknown as typeof rows;
    } catch (error) {
      throw fault('list', `it is not CSV: ${(error as Error).message}`);
    }
    if (rows.length > MOST_LINES)
      throw fault('list', `it has more than ${MOST_LINES} lines: cut it into several`);
    const people = await known([...new Set(rows.map(({ record }) => record[1] ?? ''))]);
    const byText = new Map(
      [...new Set(rows.map(({ record }) => record[1] ?? ''))].map((each, index) => [each, people[index]!]),
    );
    const records = await recordsNamed(
      database,
      rulebook,
      collection.name,
      rows.map(({ record }) => record[0] ?? ''),
    );
    const lines: { record: string; person: string }[] = [];
    const faults: string[] = [];
    const seen = new Map<string, number>();
    for (const { record: cells, info } of rows) {
      const wrong = (what: string) => faults.push(`line ${info.lines}: ${what}`);
      if (cells.length !== 2 || cells.includes('')) {
        wrong('it takes two cells: the label or the id of a record, and a person');
        continue;
      }
      const [named, who] = cells as [string, string];
      const person = byText.get(who)!;
      if (typeof person === 'string') {
        wrong(person);
        continue;
      }
      const ids = records.get(named) ?? [];
      if (ids.length !== 1)
        wrong(`${collection.name} has ${ids.length === 0 ? 'no record' : 'more than one record'} “${named}”`);
      else if (seen.has(ids[0]!)) wrong(`“${named}” stands in line ${seen.get(ids[0]!)}, too`);
      else {
        seen.set(ids[0]!, info.lines);
        lines.push({ record: ids[0]!, person: person.id });
      }
    }
    if (faults.length > 0)
      throw new Problem('malformed-request', {
        errors: [
          { message: `${lines.length} of ${rows.length} lines are good; nothing was saved`, field: 'list' },
          ...faults.slice(0, MOST_NAMED).map((message) => ({ message, field: 'list' })),
          ...(faults.length > MOST_NAMED
            ? [{ message: `and ${faults.length - MOST_NAMED} more`, field: 'list' }]
            : []),
        ],
      });
    return { kind: 'list', lines };
  }
}

const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i;

function fault(field: string, message: string): Problem {
  return new Problem('malformed-request', { errors: [{ field, message }] });
}

function refuseOwnerless({ name, owners }: Collection): void {
  if (owners.length === 0 || name === PEOPLE)
    throw fault(
      'collection',
      `${name} does not say whose its records are: write “owned by …” into the collection, and publish`,
    );
}

/** The field that is to be filled: one of people, that `owned by` names. */
function fieldOf(said: string | undefined, { name, owners, fields }: Collection): string {
  const own = owners.filter((path) => path.length === 1).map(([field]) => field!);
  if (said !== undefined) {
    const type = fields.get(said)?.type;
    if (type?.kind === 'ref' && type.collection === PEOPLE) return said;
    throw fault('field', `${name} has no field “${said}” that points at people`);
  }
  if (own.length === 1) return own[0]!;
  throw fault(
    'field',
    own.length === 0
      ? `owners of ${name} are found by a path through other records: give those an owner`
      : `name one of ${own.join(', ')}`,
  );
}

function conditionOf(text: string, { name }: Collection, rulebook: Rulebook) {
  const checked = checkFilter(text, name, rulebook);
  if (checked.ok) return checked.condition;
  throw fault('where', checked.diagnostics[0]!.message);
}

/** A path that leads to a person, read as one of a condition. */
function pathOf(text: string, { name }: Collection, rulebook: Rulebook): PathOperand {
  const checked = /^[a-z0-9_.`]+$/i.test(text) ? checkFilter(`${text} is missing`, name, rulebook) : null;
  if (checked !== null && !checked.ok) throw fault('by', checked.diagnostics[0]!.message);
  const operand = checked?.condition.kind === 'missing' ? checked.condition.operand : null;
  if (operand?.kind === 'path' && operand.type.kind === 'ref' && operand.type.collection === PEOPLE)
    return operand;
  throw fault('by', `“${text}” is no path from a record of ${name} to a person`);
}
