import { LRUCache } from 'lru-cache';
import { standingOf, type Caller } from '../../core/decide/caller.ts';
import type { Node } from '../../core/decide/nodes.ts';
import { remembered } from '../../core/decide/remembered.ts';
import { isReadableAlways, type Meeting } from '../../core/decide/turns.ts';
import { drive, type Change, type Driver, type Steps } from '../../core/decide/steps/asking.ts';
import type { Values } from '../../core/decide/steps/change.ts';
import type { Verdict } from '../../core/decide/steps/verdict.ts';
import type { Operand } from '../../core/ir/conditions.ts';
import type { Operation, Rulebook } from '../../core/ir/rulebook.ts';
import { bindable, operandSql } from '../../core/sql/conditions.ts';
import type { Access } from '../../core/sql/access.ts';
import { Slot, filled, sql, value, type Fragment, type SqlValue } from '../../core/sql/fragment.ts';
import { columnType } from '../../core/sql/identifiers.ts';
import { READABLE, singleWrite, type Needs, type SingleWrite } from '../../core/sql/single.ts';
import { Expression, type NewValue } from '../../core/sql/writes.ts';
import { collectionOf, tooLong } from '../../core/types/schema.ts';
import { JsonPatch, type Type, type Value } from '../../core/types/types.ts';
import { askTogether } from '../batch.ts';
import type { Executor } from '../connection.ts';
import { isTakenBack } from '../failures.ts';
import { holdingForOne, holdingRules } from '../in-force.ts';
import { tallies } from '../tallies.ts';
import type { VisibleRecord } from './outcome.ts';
import { readStatement } from './plans.ts';
import { columnOfRow, visibleRecord } from './rows.ts';

/** Somebody who was here before, as whom they were then. */
export interface Guess {
  /** Who they were; the moment is that of the transaction. */
  readonly access: Access;
  /** Finds out whether they are so still, and says it to the transaction (`SAID`): what `said` is, or anything else. */
  readonly asking: Fragment;
  readonly said: string;
  /** They are not who they were taken for. */
  readonly wasWrong: () => void;
  /** They are, and by these rules they were answered. */
  readonly wasRight: () => void;
}

/** A write by what is supplied, as its steps go about it with any way of holding values. */
export interface Write {
  readonly operation: Operation;
  readonly collection: string;
  /** Of the record, or of the one that is to be made. */
  readonly id: string;
  /** What is supplied: values of fields, or of parameters, by name. */
  readonly supplied: ReadonlyMap<string, Value>;
  /** The types of these. */
  readonly types: ReadonlyMap<string, { readonly type: Type }>;
  /** What it may meet, by who asks. */
  readonly meetings: (caller: Caller) => Meeting;
  readonly steps: <V>(
    access: Access,
    supplied: ReadonlyMap<string, V>,
    id: V,
    values: Values<V>,
  ) => Steps<V, Verdict<V>>;
}

/** What was written, as the caller sees it then; null where they do not. */
export interface Written {
  readonly record: VisibleRecord | null;
}

/**
 * Makes one write in one trip to the database: who calls, and the write itself, which is made only where they are still who they were,
 * and where its steps would allow it. Null where nothing was written, for whatever reason: whoever asks then takes the steps one by one,
 * which say why.
 *
 * Nothing is decided here: the steps run without a record, by what each condition would have to be, and the statement makes sure of just
 * that. Where they ask for more than one statement can tell, it is not tried. Within a transaction, that one must be serializable where
 * the write looks at other records.
 */
export async function writtenAtOnce(on: Executor, guess: Guess, write: Write): Promise<Written | null> {
  const plan = planOf(guess.access, write);
  if (plan === null) return null;
  const { operation, collection, supplied, id } = write;
  const long = new Map(plan.measured.map(([field, name]) => [field, supplied.get(name)!]));
  if (tooLong(collectionOf(guess.access.rulebook.schema, collection), long).length > 0) return null;
  const valueOf = (slot: Slot): SqlValue => {
    if (slot.of === 'said') return guess.said;
    if (slot.of !== 'given') return guess.access.valueOf(slot);
    return slot.name === ID ? id : bindable(supplied.get(slot.name)!);
  };
  const { isAlone, reading, afterwards } = plan;
  const read = isAlone || operation === 'delete' ? null : readStatement(guess.access, collection, id, false);
  let answers: Record<string, unknown>[][];
  try {
    // What looks at other records must not be right alone, and wrong together with what others write.
    answers = await askTogether(
      on,
      [
        isAlone ? holdingForOne : holdingRules,
        guess.asking,
        { ...filled(plan.statement, valueOf), raw: true },
        ...(afterwards === null ? [] : [filled(afterwards, valueOf)]),
        ...(read === null ? [] : [{ ...read.statement, raw: true }]),
      ],
      { serializable: !isAlone && on.isTransaction !== true },
    );
  } catch (error) {
    // The server took all of it back: the steps say what it was, or meet it no more.
    if (isTakenBack(error)) return null;
    throw error;
  }
  const [, arrival, [row] = [], [after] = []] = answers;
  if (arrival![0]?._said !== guess.said) {
    tallies.guesses.wrong++;
    guess.wasWrong();
    return null;
  }
  tallies.guesses.right++;
  if (row === undefined) return null;
  tallies.writes.atOnce++;
  guess.wasRight();
  if (read !== null) return { record: after === undefined ? null : visibleRecord(after, read.reading) };
  return { record: columnOfRow(row, READABLE) === true ? visibleRecord(row, reading!) : null };
}

interface Plan extends SingleWrite {
  /** It looks at nothing but the record itself and the caller. */
  readonly isAlone: boolean;
  /** Fields whose values may be too long, and by what names these are supplied. */
  readonly measured: readonly (readonly [field: string, name: string])[];
}

/** The name of the id among what is supplied: no field or parameter of the rulebook can have it. */
const ID = ' id';
/** Characters of statements that are kept of one rulebook. */
const KEPT_CHARACTERS = 8_000_000;

const known = new WeakMap<Rulebook, LRUCache<string, Plan | 'no'>>();

/** What can be said in one statement, said once for everybody of the same roles, and for the same fields. */
function planOf(access: Access, write: Write): Plan | null {
  const { rulebook, caller } = access;
  const plans = remembered(
    known,
    rulebook,
    () =>
      new LRUCache<string, Plan | 'no'>({
        maxSize: KEPT_CHARACTERS,
        sizeCalculation: (plan, key) => key.length + (plan === 'no' ? 100 : 2 * plan.statement.text.length),
      }),
  );
  const { operation, collection, supplied, id } = write;
  const isOwn = caller.person?.id === id;
  let key = `${standingOf(caller)} ${operation} ${collection} ${isOwn}`;
  for (const [name, bound] of supplied) key += ` ${name}${kindOf(bound)}`;
  const make = (): Plan | 'no' => made(access.withSlots(), write, isOwn) ?? 'no';
  const plan = remembered<string, Plan | 'no'>(plans, key, make);
  return plan === 'no' ? null : plan;
}

/** All that the steps ask of a value where they do not know it. */
function kindOf(bound: Value): '' | '-' | '+' {
  return bound === null ? '-' : bound instanceof JsonPatch ? '+' : '';
}

/** The steps ask what one statement cannot tell, or would write what must be looked at first. */
class NotOneStatement extends Error {}

function made(access: Access, write: Write, isOwn: boolean): Plan | null {
  const { kind } = write.meetings(access.caller);
  // These take turns before they begin.
  if (kind === 'group') return null;
  const isAlone = kind === 'alone';
  const { collection, supplied, types } = write;
  const { fields } = collectionOf(access.rulebook.schema, collection);
  const held = new Map<string, NewValue>();
  for (const [name, bound] of supplied) {
    const { type } = types.get(name)!;
    held.set(name, bound === null ? missing(type) : givenLater(name, type, kindOf(bound) === '+'));
  }
  const asked: Asked = { truths: [], references: [] };
  try {
    const steps = write.steps(access, held, givenLater(ID, { kind: 'uuid' }), unknown);
    const verdict = drive(steps, driver(access, isOwn, asked));
    // With nothing to write there is nothing to make sure of but that it can be read.
    if (!verdict.allowed || asked.truths.length !== 1) return null;
    const { needs, change } = asked.truths[0]!;
    if (change.kind === 'changed' && verdict.values.size === 0) return null;
    const measured: [string, string][] = [];
    for (const [field, worked] of verdict.values) {
      if ((fields.get(field)!.most ?? null) === null || isMissing(worked)) continue;
      const from = [...held].find(([, each]) => each === worked);
      // How long a value is that nobody gives is not known before it is there.
      if (from === undefined) return null;
      measured.push([field, from[0]]);
    }
    const written = { ...change, values: verdict.values } as Change<NewValue>;
    const all = { formulas: needs, references: asked.references };
    const made = singleWrite(access, collection, new Slot('given', ID), all, written, isAlone);
    return made === null ? null : { ...made, isAlone, measured };
  } catch (error) {
    if (error instanceof NotOneStatement) return null;
    throw error;
  }
}

/** What the steps have asked. */
interface Asked {
  readonly truths: { readonly needs: readonly Node[]; readonly change: Change<NewValue> }[];
  readonly references: Needs['references'][number][];
}

/** Answers as if the write were to be made, and takes down what must hold for that. */
function driver(access: Access, isOwn: boolean, asked: Asked): Driver<NewValue> {
  const never = () => {
    throw new NotOneStatement();
  };
  return {
    readable: () => true,
    precondition: () => true,
    'own record': () => isOwn,
    values: ({ operands }) => operands.map((operand) => workedOut(access, operand)),
    truths({ of, change, needs }) {
      asked.truths.push({ needs, change });
      return new Set(of);
    },
    references({ references }) {
      const { rulebook, caller } = access;
      for (const { collection, target } of references) {
        // Whether it is there, the foreign key says; and what is there, they can read.
        if (isReadableAlways(rulebook, caller, collection)) continue;
        asked.references.push({ collection, id: (target as Expression).sql });
      }
      return [];
    },
    circle: never,
    referrers: never,
    passed: never,
    // The foreign keys say so.
    held: () => false,
  };
}

/** A value that no caller chooses, by what is at hand: literals, the clock, and what is known of the caller. */
function workedOut(access: Access, operand: Operand): NewValue {
  const { kind, type } = operand;
  // Whatever is filled in begins at the caller.
  const isTheirs = kind === 'path' && operand.steps.length === 1;
  if (!isTheirs && !atHand.has(kind)) throw new NotOneStatement();
  // Whether the caller has such a value is left to the database: where one is required, it says so.
  const worked = operandSql(operand, access.around('r', noRoles));
  return new Expression(sql`${worked}::${columnType(type)}`);
}

const atHand: ReadonlySet<Operand['kind']> = new Set(['literal', 'now', 'today']);

const noRoles: ReadonlySet<string> = new Set();

/** How values are held that are not known. */
const unknown: Values<NewValue> = {
  same: () => null,
  isMissing,
  missing,
};

function missing(type: Type): NewValue {
  return new Expression(sql`null::${columnType(type)}`, { isMissing: true });
}

function givenLater(name: string, type: Type, merges = false): NewValue {
  const bound: SqlValue = new Slot('given', name);
  return new Expression(sql`${value(bound)}::${columnType(type)}`, { merges });
}

function isMissing(held: NewValue): boolean {
  return held instanceof Expression && held.isMissing;
}
