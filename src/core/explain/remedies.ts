import { quoted } from '../language/quoted.ts';
import { Decider, type Question } from '../evaluate/decider.ts';
import type { RecordValues } from '../decide/caller.ts';
import { truthIn, valueIn, type Circumstances, type Frame } from '../evaluate/closures.ts';
import { leavesOf } from '../decide/nodes.ts';
import type { Condition, Operand, PathOperand } from '../ir/conditions.ts';
import type { Fence, Rule, Rulebook } from '../ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../types/schema.ts';
import { shiftTimestamp } from '../types/time.ts';
import type { Scalar, Type, Value } from '../types/types.ts';
import { UTC } from '../types/time.ts';
import { placeOf, placeOfIdentity, type Place } from './place.ts';

/** A small change that would make a no a yes: it was tried, and the answer was yes. */
export interface Remedy {
  readonly kind: 'role' | 'value' | 'rule';
  readonly text: string;
  /** What would be written for it, in a sentence or for a test identity. Null, or not there: it is no single word. */
  readonly edit?: SentenceEdit | null;
}

/** Words that would be written into one sentence, each of the choices alone enough. */
export interface SentenceEdit extends Place {
  /** Fields, for this operation; null: whom it speaks of or, a fence, does not concern. */
  readonly operation: string | null;
  readonly choices: readonly (readonly string[])[];
  /** It stands for a test identity, who would hold these roles, and is no sentence. */
  readonly identity?: string;
  /** That identity would have this value in this field instead, as it is written. */
  readonly field?: string;
}

/** How things are called in sentences. */
export interface Speaker {
  readonly name: string;
  value(type: Type, value: Value): string;
  record(collection: string, record: RecordValues): string;
  hides(collection: string, field: string): boolean;
}

/** One thing to be changed, in the data, in the caller, or by a record that is not there yet. */
type Change =
  | { readonly of: 'record'; readonly field: string; readonly value: Value; readonly from: Source }
  | {
      readonly of: 'me';
      readonly field: string;
      readonly type: Type;
      readonly value: Value;
      readonly from: Source;
    }
  | { readonly of: 'role'; readonly role: string }
  | {
      readonly of: 'added';
      readonly collection: string;
      readonly values: RecordValues;
      readonly from: ReadonlyMap<string, Source>;
    };

/** The field that a value was taken from, as it would have to be the same; null: it stands in the rules. */
type Source = Pick<PathOperand['steps'][number], 'collection' | 'field'> | null;

/** Sets of changes that are looked at for one condition, and remedies that are told. */
const MOST_WAYS = 8;
const MOST_TOLD_OF_A_KIND = 3;

/**
 * Looks for the smallest changes that would turn the answer round: one role more, a few values, one word in a rule.
 * Each is tried before it is told, so none is only likely; that none is told does not mean that there is none.
 */
export function findRemedies(
  decider: Decider,
  question: Question,
  fields: readonly string[],
  speaker: Speaker,
): Remedy[] {
  const search = new Search(decider, question, fields, speaker);
  const found: (readonly Found[])[] = [search.values(), search.roles(), search.rules()];
  return found.flatMap((ofOneKind) => {
    const different = new Map(ofOneKind.map((remedy) => [remedy.text, remedy]));
    return [...different.values()]
      .slice(0, MOST_TOLD_OF_A_KIND)
      .map(({ edit, ...remedy }): Remedy => (edit === undefined ? remedy : { ...remedy, edit: edit() }));
  });
}

/** What would be written is worked out for those alone that are told. */
type Found = Omit<Remedy, 'edit'> & { readonly edit?: () => SentenceEdit | null };

class Search {
  readonly #decider: Decider;
  readonly #question: Question;
  readonly #fields: readonly string[];
  readonly #speaker: Speaker;

  constructor(decider: Decider, question: Question, fields: readonly string[], speaker: Speaker) {
    this.#decider = decider;
    this.#question = question;
    this.#fields = fields;
    this.#speaker = speaker;
  }

  roles(): Found[] {
    const { rulebook, caller } = this.#decider;
    if (caller.person === null) return [];
    return [...rulebook.roles.values()]
      .filter(({ name, when }) => when === null && !caller.roles.has(name))
      .filter(({ name }) => this.#works([{ of: 'role', role: name }]))
      .map(({ name }) => ({
        kind: 'role',
        text: `if ${this.#speaker.name} held the role ${name}`,
        edit: () => this.#held(name),
      }));
  }

  /** What people of the application hold stands in no text. */
  #held(role: string): SentenceEdit | null {
    const place = placeOfIdentity(this.#decider.rulebook, this.#speaker.name);
    return place && { ...place, operation: null, choices: [[role]], identity: this.#speaker.name };
  }

  /** What a test identity has is written; what records hold, and several things at once, are not. */
  #given([change, ...others]: readonly Change[]): SentenceEdit | null {
    if (change?.of !== 'me') return null;
    // To read and to change may take the same.
    const all = [change, ...others];
    if (!all.every((each) => each.of === 'me' && each.field === change.field && !this.#isHidden(each)))
      return null;
    const { rulebook } = this.#decider;
    const words = this.#written(change.type, change.value);
    const place = placeOfIdentity(rulebook, this.#speaker.name);
    if (words === null || place === null || !collectionOf(rulebook.schema, PEOPLE).fields.has(change.field))
      return null;
    return {
      ...place,
      operation: null,
      choices: [[words]],
      identity: this.#speaker.name,
      field: change.field,
    };
  }

  /** A record by what it is called. */
  #written(type: Type, value: Value): string | null {
    if (type.kind !== 'ref') return writtenValue(type, value);
    const { rulebook, world } = this.#decider;
    const { label } = collectionOf(rulebook.schema, type.collection);
    const record = value === null ? null : world.look(type.collection, value as string);
    if (record === null || label === null || this.#speaker.hides(type.collection, label)) return null;
    const name = record[label] ?? null;
    return typeof name === 'string' && type.collection !== PEOPLE ? quoted(name) : null;
  }

  /** What would have to be different for a rule to be true: in the record, in the caller, or in a record added. */
  values(): Found[] {
    const { collection, operation, record, values } = this.#question;
    const reading = record === null ? [] : this.#waysFor('read', record);
    const ways =
      operation === 'read'
        ? reading
        : this.#waysFor(operation, record ?? this.#decider.completed(collection, values, noStamps));
    const both = ways.flatMap((way) => [way, ...reading.map((each) => [...each, ...way])]);
    return [...both, ...(operation === 'read' ? [] : reading)]
      .filter((way) => way.length > 0 && !contradicts(way) && this.#works(way))
      .toSorted((a, b) => a.length - b.length)
      .map((way) => ({ kind: 'value', text: this.#sentence(way), edit: () => this.#given(way) }));
  }

  #waysFor(operation: string, record: RecordValues): Change[][] {
    const { collection } = this.#question;
    const { grounds, barriers } = this.#decider.permission(operation, collection);
    const around = this.#decider.around({ operation, collection });
    const sides = { ...around, old: { record, look: around.look }, new: { record, look: around.look } };
    const waysOf = (condition: Condition) =>
      waysTo(condition, true, [record], sides, this.#fieldType, waysDepth);
    const all = grounds.flatMap(({ leaf }) => waysOf(leaf.when));
    const fenced = barriers
      .filter(({ about }) => about === null)
      .flatMap(({ node }) => leavesOf([node]).map(({ when }) => waysOf(when)));
    // A rule made true is not enough where a fence stands: what each needs goes together.
    return [...combined([all, ...fenced]), ...all].slice(0, MOST_WAYS * 2);
  }

  readonly #fieldType = (collection: string, field: string): Type =>
    collectionOf(this.#decider.rulebook.schema, collection).fields.get(field)!.type;

  /** One word in the rulebook: a field in a list, a role in a sentence, a role that a fence lets pass. */
  rules(): Found[] {
    const { rulebook, caller } = this.#decider;
    const { collection, operation, values } = this.#question;
    const asked = operation === 'read' ? this.#fields : [...values.keys()];
    const found: Found[] = [];
    const stages = operation === 'read' || operation === 'create' ? [operation] : ['read', operation];
    for (const stage of stages) {
      const { grounds, barriers, action } = this.#decider.permission(stage, collection);
      const named = stage === operation && action === null ? asked : [];
      const spoken = grounds.map(({ rule }) => rule);
      for (const rule of spoken.filter((each) => rulebook.rules.includes(each))) {
        const lacking = named.filter((field) => !rule.operations.get(stage)!.has(field));
        if (lacking.length === 0) continue;
        const covered = new Set([...rule.operations.get(stage)!, ...lacking]);
        const wider: Rule = { ...rule, operations: new Map([...rule.operations, [stage, covered]]) };
        if (this.#worksWith(replaced(rulebook, rule, wider)))
          found.push({
            kind: 'rule',
            text: `if ${rule.id} also named ${lacking.join(', ')} for ${stage}`,
            edit: () => this.#edit(rule, stage, [lacking]),
          });
      }
      for (const rule of rulebook.rules) {
        if (rule.collection !== collection || !rule.operations.has(stage) || spoken.includes(rule)) continue;
        const audience =
          caller.person === null ? { ...rule.audience, visitors: true } : { ...rule.audience, people: true };
        if (this.#worksWith(replaced(rulebook, rule, { ...rule, audience })))
          found.push({
            kind: 'rule',
            text: `if ${rule.id} also spoke of ${caller.person === null ? 'visitors' : `people, or of a role of ${this.#speaker.name}`}`,
            edit: () =>
              this.#edit(
                rule,
                null,
                caller.person === null ? [['visitors']] : [...this.#rolesThatWork(rule), ['people']],
              ),
          });
      }
      const concerned = barriers.filter(
        ({ about }) => about === null || named.some((field) => about.has(field)),
      );
      for (const { fence } of concerned) {
        if (this.#worksWith(without(rulebook, fence)))
          found.push({
            kind: 'rule',
            text: `if ${fence.id} did not concern ${this.#speaker.name}`,
            edit: () => this.#edit(fence, null, this.#rolesThatWork(fence)),
          });
      }
    }
    return found;
  }

  /** Roles of the caller, each of which would do in the sentence. */
  #rolesThatWork(sentence: Rule | Fence): string[][] {
    const { rulebook, caller } = this.#decider;
    return [...caller.roles]
      .toSorted()
      .filter((role) =>
        this.#worksWith(
          'exempt' in sentence
            ? withFence(rulebook, sentence, { ...sentence, exempt: new Set([...sentence.exempt, role]) })
            : replaced(rulebook, sentence, {
                ...sentence,
                audience: {
                  ...sentence.audience,
                  roles: new Set([...sentence.audience.roles, role]),
                },
              }),
        ),
      )
      .map((role) => [role]);
  }

  #edit(sentence: Rule | Fence, operation: string | null, choices: readonly string[][]): SentenceEdit | null {
    const place = placeOf(this.#decider.rulebook, sentence.span);
    return place === null || choices.length === 0 ? null : { ...place, operation, choices };
  }

  #worksWith(rulebook: Rulebook): boolean {
    return this.#isYes(new Decider(rulebook, this.#decider.caller, this.#decider.world), this.#question);
  }

  #works(changes: readonly Change[]): boolean {
    const { rulebook, caller, world } = this.#decider;
    const { collection, record, values } = this.#question;
    const inRecord = Object.fromEntries(
      changes.flatMap((each) => (each.of === 'record' ? [[each.field, each.value] as const] : [])),
    );
    const inMe = changes.flatMap((each) => (each.of === 'me' ? [[each.field, each.value] as const] : []));
    if (inMe.length > 0 && caller.person === null) return false;
    const changed = record === null ? null : { ...record, ...inRecord };
    const added = changes.flatMap((each) => (each.of === 'added' ? [each] : []));
    const other = new Decider(
      rulebook,
      {
        person:
          caller.person === null
            ? null
            : { ...caller.person, values: { ...caller.person.values, ...Object.fromEntries(inMe) } },
        roles: new Set([
          ...caller.roles,
          ...changes.flatMap((each) => (each.of === 'role' ? [each.role] : [])),
        ]),
      },
      {
        now: world.now,
        look: (name, id) =>
          changed !== null && name === collection && id === changed.id ? changed : world.look(name, id),
        all: (name, beside) => [
          ...[...world.all(name, beside)].map((each) =>
            changed !== null && name === collection && each.id === changed.id ? changed : each,
          ),
          ...added.filter((each) => each.collection === name).map((each) => each.values),
        ],
      },
    );
    const supplied = record === null ? new Map([...values, ...Object.entries(inRecord)]) : values;
    return this.#isYes(other, { ...this.#question, record: changed, values: supplied });
  }

  #isYes(decider: Decider, question: Question): boolean {
    const { allowed, fields } = decider.decide(question);
    return (
      allowed && (question.operation !== 'read' || this.#fields.every((field) => fields.includes(field)))
    );
  }

  /** Would a value from there tell what is not shown? */
  #tells(from: Source): boolean {
    return from !== null && this.#speaker.hides(from.collection, from.field);
  }

  #isHidden({ field, from }: Change & { readonly of: 'me' }): boolean {
    return this.#speaker.hides(PEOPLE, field) || this.#tells(from);
  }

  #sentence(changes: readonly Change[]): string {
    const parts = changes.map((change) => {
      switch (change.of) {
        case 'role':
          return `${this.#speaker.name} held the role ${change.role}`;
        case 'me':
          return `me.${change.field} were ${this.#isHidden(change) ? 'another' : this.#speaker.value(change.type, change.value)}`;
        case 'record': {
          const { collection, record } = this.#question;
          const type = this.#fieldType(collection, change.field);
          const hidden = this.#speaker.hides(collection, change.field);
          const now =
            record === null
              ? ''
              : ` (it is ${hidden ? 'sensitive' : this.#speaker.value(type, record[change.field] ?? null)})`;
          return `${change.field} were ${hidden || this.#tells(change.from) ? 'another' : this.#speaker.value(type, change.value)}${now}`;
        }
        case 'added': {
          const named = Object.entries(change.values).filter(([field]) => field !== 'id');
          const values = named.map(
            ([field, value]) =>
              `${field} = ${this.#speaker.hides(change.collection, field) || this.#tells(change.from.get(field) ?? null) ? '…' : this.#speaker.value(this.#fieldType(change.collection, field), value)}`,
          );
          return `there were a record of ${change.collection} with ${values.join(', ')}`;
        }
      }
    });
    return `if ${[...new Set(parts)].join(', and ')}`;
  }
}

/** One field cannot have two values. */
function contradicts(changes: readonly Change[]): boolean {
  const places = new Map<string, Value>();
  return changes.some((change) => {
    if (change.of !== 'record' && change.of !== 'me') return false;
    const place = `${change.of} ${change.field}`;
    const other = places.has(place) && places.get(place) !== change.value;
    places.set(place, change.value);
    return other;
  });
}

const waysDepth = 6;

/** Stands for no rule in particular: a record as it would be without stamps. */
const noStamps = { stamps: [] } as unknown as Rule;

type TypeOf = (collection: string, field: string) => Type;

/** Sets of changes any of which might make the condition come out as wanted; none: it cannot be helped, or not seen how. */
function waysTo(
  condition: Condition,
  wanted: boolean,
  frame: Frame,
  circumstances: Circumstances,
  typeOf: TypeOf,
  depth: number,
): Change[][] {
  if (truthIn(condition, frame, circumstances) === wanted) return [[]];
  if (depth === 0) return [];
  const ways = (part: Condition, as: boolean) => waysTo(part, as, frame, circumstances, typeOf, depth - 1);
  switch (condition.kind) {
    case 'not':
      return ways(condition.operand, !wanted);
    case 'and':
    case 'or': {
      const each = condition.operands.map((part) => ways(part, wanted));
      const together = (condition.kind === 'and') === wanted;
      return together ? combined(each) : each.flat().slice(0, MOST_WAYS);
    }
    case 'has role':
      return wanted ? [[{ of: 'role', role: condition.role }]] : [];
    case 'some':
      return wanted ? added(condition, frame, circumstances, typeOf) : [];
    case 'constant':
    case 'as':
    case 'may':
      return [];
    case 'among':
    case 'at most':
    case 'contains':
    case 'ends with':
    case 'equal':
    case 'holds':
    case 'less':
    case 'member':
    case 'missing':
    case 'starts with':
    case 'within':
      return waysOfLeaf(condition, wanted, frame, circumstances).map((change) => [change]);
  }
}

/** Each way of one with each of the next, the small ones first. */
function combined(each: readonly (readonly Change[][])[]): Change[][] {
  return each.reduce<Change[][]>(
    (before, ways) =>
      before
        .flatMap((first) => ways.map((second) => [...first, ...second]))
        .toSorted((a, b) => a.length - b.length)
        .slice(0, MOST_WAYS),
    [[]],
  );
}

type Leaf = Exclude<
  Condition,
  { kind: 'constant' | 'and' | 'or' | 'not' | 'some' | 'may' | 'has role' | 'as' }
>;

function waysOfLeaf(leaf: Leaf, wanted: boolean, frame: Frame, circumstances: Circumstances): Change[] {
  return sidesOf(leaf).flatMap(({ own, other, isLeft }) => {
    const bound = other === null ? null : valueIn(other, frame, circumstances);
    return valuesFor(leaf, wanted, isLeft, own.type, bound, valueIn(own, frame, circumstances)).flatMap(
      (value) => placed(own, value, sourceOf(other)),
    );
  });
}

function sidesOf(leaf: Leaf): { own: PathOperand; other: Operand | null; isLeft: boolean }[] {
  const pairs: [Operand, Operand | null, boolean][] =
    'left' in leaf
      ? [
          [leaf.left, leaf.right, true],
          [leaf.right, leaf.left, false],
        ]
      : 'list' in leaf
        ? [
            [leaf.operand, leaf.list, true],
            [leaf.list, leaf.operand, false],
          ]
        : [[leaf.operand, null, true]];
  return pairs.flatMap(([own, other, isLeft]) =>
    own.kind === 'path' && own.steps.length === 1 ? [{ own, other, isLeft }] : [],
  );
}

/** Where the value would be changed: on the record in hand, or in the caller. */
function placed({ root, steps, type }: PathOperand, value: Value, from: Source): Change[] {
  const { field } = steps[0]!;
  if (field === 'id') return [];
  if (root === 'me') return [{ of: 'me', field, type, value, from }];
  return root === 'record' || root === 'old' || root === 'new' ? [{ of: 'record', field, value, from }] : [];
}

function sourceOf(operand: Operand | null): Source {
  return operand?.kind === 'path' ? (operand.steps.at(-1) ?? null) : null;
}

/** Values that would make the comparison come out as wanted. */
function valuesFor(
  leaf: Leaf,
  wanted: boolean,
  isLeft: boolean,
  type: Type,
  bound: Value,
  present: Value,
): Value[] {
  switch (leaf.kind) {
    case 'missing':
      return wanted ? [null] : [];
    case 'holds':
      return [wanted];
    case 'among': {
      const values = leaf.values.map((each) => each.value);
      if (wanted) return values;
      return type.kind === 'one of' ? type.values.filter((each) => !values.includes(each)) : [];
    }
    case 'member':
      if (bound === null || !wanted) return [];
      if (isLeft) return (bound as readonly Scalar[]).slice(0, 2);
      return [[...((present as readonly Scalar[] | null) ?? []), bound as Scalar]];
    case 'within':
      // Of a list that something lies below a member of, one member more.
      if (bound !== null && wanted && type.kind === 'list')
        return [[...((present as readonly Scalar[] | null) ?? []), bound as Scalar]];
      return bound === null || !wanted ? [] : Array.isArray(bound) ? bound.slice(0, 1) : [bound];
    case 'equal':
      if (bound === null) return [];
      if (wanted) return [bound];
      if (type.kind === 'one of') return type.values.filter((each) => each !== bound);
      return type.kind === 'boolean' ? [bound !== true] : [];
    case 'less':
    case 'at most': {
      if (bound === null || Array.isArray(bound)) return [];
      // The bound itself serves “at most”, and the refusal of “less”; one step beyond it the others.
      const inclusive = (leaf.kind === 'at most') === wanted;
      if (inclusive) return [bound];
      return beyond(type, bound as Scalar, isLeft === wanted ? -1 : 1);
    }
    case 'contains':
    case 'ends with':
    case 'starts with':
      return bound === null || !wanted || !isLeft || Array.isArray(bound) ? [] : [bound];
  }
}

/** As it is written for a test identity; null of what is not one word there. */
function writtenValue({ kind }: Type, value: Value): string | null {
  if (value === null) return null;
  switch (kind) {
    case 'text':
    case 'one of':
    case 'date':
    case 'timestamp':
      return quoted(value as string);
    case 'integer':
    case 'decimal':
    case 'boolean':
      return String(value as Scalar);
    case 'uuid':
    case 'ref':
    case 'json':
    case 'list':
      return null;
  }
}

function beyond(type: Type, bound: Scalar, direction: number): Value[] {
  if (type.kind === 'integer') return [(bound as number) + direction];
  if (type.kind === 'decimal') return [String(Number(bound) + direction)];
  return type.kind === 'timestamp' ? [shiftTimestamp(bound as string, direction, 0, UTC)] : [];
}

/** A record that would satisfy the body, made of what its comparisons ask for. */
function added(
  { range, body }: Condition & { kind: 'some' },
  frame: Frame,
  circumstances: Circumstances,
  typeOf: TypeOf,
): Change[][] {
  const values: Record<string, Value> = { id: ADDED_ID };
  const from = new Map<string, Source>();
  for (const part of body.kind === 'and' ? body.operands : [body]) {
    const negated = part.kind === 'not';
    const leaf = negated ? part.operand : part;
    if (!('left' in leaf || 'operand' in leaf) || leaf.kind === 'not') continue;
    for (const { own, other, isLeft } of sidesOf(leaf as Leaf)) {
      if (own.root !== range.depth) continue;
      const { field, collection } = own.steps[0]!;
      const here: Frame = [...frame, values];
      const bound = other === null ? null : valueIn(other, here, circumstances);
      const [value] = valuesFor(leaf as Leaf, !negated, isLeft, typeOf(collection, field), bound, null);
      if (value === undefined) continue;
      values[field] = value;
      from.set(field, sourceOf(other));
    }
  }
  return [[{ of: 'added', collection: range.collection, values, from }]];
}

/** The id of a record that is only thought of. */
const ADDED_ID = 'ffffffff-ffff-ffff-ffff-ffffffffffff';

function replaced(rulebook: Rulebook, rule: Rule, by: Rule): Rulebook {
  return { ...rulebook, rules: rulebook.rules.map((each) => (each === rule ? by : each)) };
}

function withFence(rulebook: Rulebook, fence: Fence, by: Fence): Rulebook {
  return { ...rulebook, fences: rulebook.fences.map((each) => (each === fence ? by : each)) };
}

function without(rulebook: Rulebook, fence: Fence): Rulebook {
  return { ...rulebook, fences: rulebook.fences.filter((each) => each !== fence) };
}
