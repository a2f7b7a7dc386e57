import type { RecordValues } from '../decide/caller.ts';
import type { TrueOf } from '../decide/nodes.ts';
import { leavesOf } from '../decide/nodes.ts';
import type { Change } from '../decide/steps/asking.ts';
import type { Barrier, Permission } from '../decide/formula.ts';
import type { Circumstances } from '../evaluate/closures.ts';
import { Decider, type Decision, type Question } from '../evaluate/decider.ts';
import { traceCondition, type Trace } from '../evaluate/trace.ts';
import type { Operand } from '../ir/conditions.ts';
import type { Fence, Operation, Rule, Rulebook } from '../ir/rulebook.ts';
import { collectionOf, fieldOf } from '../types/schema.ts';
import type { Truth } from '../types/truth.ts';
import type { Type, Value } from '../types/types.ts';
import { placeOf } from './place.ts';
import { findRemedies, type Remedy } from './remedies.ts';
import { conditionWords, operandWords, valueWords, variableName } from './words.ts';

/** The explanation of one answer, as data. For developers alone: it tells of records that the caller may not know. */
export interface Why {
  readonly allowed: boolean;
  readonly summary: string;
  /** The checks that were made, in their order; the first that says no is the last. */
  readonly stages: readonly Stage[];
  /** For a no: small changes, each of which alone would make it a yes. Empty where none was found. */
  readonly remedies: readonly Remedy[];
}

export interface Stage {
  readonly question: string;
  readonly answer: boolean;
  readonly note: string | null;
  /** Every rule and fence that could have applied. */
  readonly rules: readonly RuleWhy[];
}

export interface RuleWhy {
  readonly id: string;
  readonly kind: 'rule' | 'fence';
  readonly sentence: string;
  readonly because: string | null;
  readonly file: string;
  readonly line: number;
  /** Of the fields in question, those that it covers (a fence: is about); null where none is in question. */
  readonly fields: readonly string[] | null;
  /** Null where it does not speak of the caller, or (a fence) exempts them: then its condition was not asked. */
  readonly sides: readonly { readonly side: 'as it is' | 'as it would be'; readonly part: Part }[] | null;
  /** Is it true, on every side that counts? */
  readonly truth: Truth;
}

export interface Part {
  readonly text: string;
  readonly truth: Truth;
  /** What was compared, by name. A sensitive value is named and not shown. */
  readonly values: readonly { readonly name: string; readonly value: string | null }[];
  readonly parts: readonly Part[];
  readonly note: string | null;
}

export interface WhyOptions {
  /** How the caller is called in sentences, such as `ada` or `the visitor`. */
  readonly name: string;
  /** For a read: the fields in question; empty: the record. */
  readonly fields: readonly string[];
  /** May sensitive values be shown to whoever asks? */
  readonly showSensitive: boolean;
}

/** Explains one answer. Cost: that of a hundred decisions or so, most of them for the remedies. */
export function explainWhy(decider: Decider, question: Question, options: WhyOptions): Why {
  return new Explanation(decider, question, options).make();
}

class Explanation {
  readonly #decider: Decider;
  readonly #question: Question;
  readonly #options: WhyOptions;
  readonly #rulebook: Rulebook;

  constructor(decider: Decider, question: Question, options: WhyOptions) {
    this.#decider = decider;
    this.#question = question;
    this.#options = options;
    this.#rulebook = decider.rulebook;
  }

  make(): Why {
    const { operation, collection, record } = this.#question;
    const { name, fields } = this.#options;
    const decision = this.#decider.decide(this.#question);
    const hidden =
      operation === 'read' && decision.allowed
        ? fields.filter((field) => !decision.fields.includes(field))
        : [];
    const allowed = decision.allowed && hidden.length === 0;
    const what = record === null ? collection : this.#named(collection, record);
    const about = operation === 'read' && fields.length > 0 ? ` (${fields.join(', ')})` : '';
    return {
      allowed,
      summary: `${name} may ${allowed ? '' : 'not '}${operation} ${what}${about}${allowed ? '' : `: ${this.#reason(decision, hidden)}`}`,
      stages: this.#stages(decision, allowed),
      remedies: allowed ? [] : findRemedies(this.#decider, this.#question, fields, this.#speaker()),
    };
  }

  /** How values and records are called, for the sentences of remedies. */
  #speaker() {
    return {
      name: this.#options.name,
      value: (type: Type, value: Value) => this.#value(type, value),
      record: (collection: string, record: RecordValues) => this.#named(collection, record),
      hides: (collection: string, field: string) => this.#hides(collection, field),
    };
  }

  #reason({ refusedBy, fields }: Decision, hidden: readonly string[]): string {
    const { name } = this.#options;
    const { operation } = this.#question;
    const named = fields.join(', ');
    if (hidden.length > 0)
      return `no rule that shows ${hidden.join(', ')} is true for this record, or a fence withholds it`;
    switch (refusedBy) {
      case 'not readable':
        return `the record is not readable for ${name}, and so does not exist for them`;
      case 'not covered':
        return `no rule lets ${name} supply ${named}`;
      case 'own record':
        return `nobody changes on their own record what decides about them (${named})`;
      case 'reference not readable':
        return `${named} would point at a record that ${name} cannot read`;
      case 'stamps differ':
        return `rules would fill in ${named} differently, or it is filled in and supplied as well, so nothing is`;
      case 'stamp undoes':
        return 'with everything filled in that rules fill in, one of these rules is not true any more, so nothing is filled in';
      case 'only shared':
        return `${name} can read the record only because it is shared with them, and passes nothing on`;
      case 'unclear':
        return 'two rules would make different records, so neither is made';
      case 'follows fenced':
        return 'a fence stops what would become of records that point at it';
      case 'changed meanwhile':
        return 'the record changed meanwhile';
      case 'value required':
        return `rules allow it, and ${named} must have a value`;
      case 'circle':
        return `rules allow it, and ${named} would lead back to the record itself`;
      case 'still referenced':
        return 'rules allow it, and other records point at it';
      case 'no rule':
      case null:
        return named === ''
          ? `no rule for ${operation} is true, or a fence stops it`
          : `no rule that covers ${named} is true, or a fence stops it`;
    }
  }

  #stages(decision: Decision, allowed: boolean): Stage[] {
    const { operation, collection, record, values } = this.#question;
    const { fields } = this.#options;
    const stages: Stage[] = [];
    if (record !== null) {
      const readable = decision.refusedBy !== 'not readable';
      const what = this.#named(collection, record);
      const asked = operation === 'read' ? fields : [];
      stages.push({
        question: `is ${what} readable${asked.length > 0 ? `, with ${asked.join(', ')}` : ''}?`,
        answer: operation === 'read' ? allowed : readable,
        note: null,
        rules: this.#rulesAt(collection, 'read', record, nothing, asked),
      });
      if (!readable || operation === 'read') return stages;
    }
    const names = [...values.keys()];
    // What is refused by name was refused before any reference was looked at.
    if (!beforeReferences.has(decision.refusedBy!)) stages.push(...this.#referenceStages(decision));
    if (decision.refusedBy === 'reference not readable') return stages;
    const change = this.#change(decision);
    stages.push({
      question: `is there a rule that lets ${this.#options.name} ${operation} it${names.length > 0 ? ` (${names.join(', ')})` : ''}?`,
      answer: decision.allowed,
      note: decision.refusedBy === null ? null : this.#reason(decision, []),
      rules: this.#rulesAt(collection, operation, record, change, names),
    });
    return stages;
  }

  /** Whether supplied references may point where they do; of those that may, the rules that say so are enough. */
  #referenceStages({ refusedBy, fields: refused }: Decision): Stage[] {
    const { operation, collection, values } = this.#question;
    const { action } = this.#decider.permission(operation, collection);
    const types = action?.parameters ?? collectionOf(this.#rulebook.schema, collection).fields;
    return [...values].flatMap(([field, id]): Stage[] => {
      const { type } = types.get(field)!;
      if (type.kind !== 'ref' || id === null) return [];
      const isRefused = refusedBy === 'reference not readable' && refused.includes(field);
      if (refusedBy === 'reference not readable' && !isRefused) return [];
      const pointed = this.#decider.world.look(type.collection, id as string);
      const rules = pointed === null ? [] : this.#rulesAt(type.collection, 'read', pointed, nothing, []);
      return [
        {
          question: `may ${field} point at ${pointed === null ? 'that record' : this.#named(type.collection, pointed)}?`,
          answer: !isRefused,
          note:
            pointed === null
              ? `${type.collection} has no such record`
              : isRefused
                ? 'what is not readable cannot be pointed at'
                : null,
          rules: isRefused ? rules : rules.filter((rule) => rule.truth === true),
        },
      ];
    });
  }

  /** What would become of the record; without stamps, where no decision went so far. */
  #change({ after }: Decision): Change<Value> {
    const { operation, collection, record, values } = this.#question;
    if (operation === 'create') return { kind: 'created', values: new Map(Object.entries(after ?? {})) };
    if (operation === 'delete' || operation === 'share') return nothing;
    if (after !== null) {
      const changed = Object.entries(after).filter(([name, value]) => value !== (record![name] ?? null));
      return { kind: 'changed', values: new Map([...values, ...changed].filter(([name]) => name in after)) };
    }
    const { action } = this.#decider.permission(operation, collection);
    return { kind: 'changed', values: action === null ? values : this.#decider.valuesSet(action, values) };
  }

  #rulesAt(
    collection: string,
    operation: Operation,
    record: RecordValues | null,
    change: Change<Value>,
    fields: readonly string[],
  ): RuleWhy[] {
    const permission = this.#decider.permission(operation, collection);
    const isAbout = (covered: ReadonlySet<string> | null | undefined) =>
      covered instanceof Set ? fields.filter((field) => covered.has(field)) : fields;
    const named = fields.length > 0 && permission.action === null;
    const spoken = new Map(permission.grounds.map((ground) => [ground.rule, ground]));
    // What is shared with the caller stands behind the rules of the rulebook.
    const rules = new Set([
      ...this.#rulebook.rules.filter(
        (rule) => rule.collection === collection && rule.operations.has(operation),
      ),
      ...spoken.keys(),
    ]);
    const found = [...rules].map((rule): RuleWhy => ({
      ...this.#place(rule),
      kind: 'rule',
      fields: named ? isAbout(rule.operations.get(operation)) : null,
      ...this.#asked(spoken.has(rule) ? leavesOf([spoken.get(rule)!.node]) : null, rule, record, change),
    }));
    const fences = concerned(permission, fields).map(({ fence, about, node }): RuleWhy => ({
      ...this.#place(fence),
      kind: 'fence',
      fields: named ? isAbout(about) : null,
      ...this.#asked(leavesOf([node]), null, record, change),
    }));
    return [...found, ...fences];
  }

  #place(asked: Rule | Fence) {
    const place = placeOf(this.#rulebook, asked.span);
    return {
      id: asked.id,
      sentence: asked.text,
      because: asked.because,
      // What the service itself keeps to stands in no file.
      file: place?.file ?? 'the service itself',
      line: place?.line ?? 0,
    };
  }

  /** `leaves` null: it does not speak of the caller. `rule`: one whose stamps are set with it. */
  #asked(
    leaves: readonly TrueOf[] | null,
    rule: Rule | null,
    record: RecordValues | null,
    change: Change<Value>,
  ): Pick<RuleWhy, 'sides' | 'truth'> {
    if (leaves === null) return { sides: null, truth: false };
    const sides = leaves.flatMap((leaf) =>
      // A fence is asked of the record that some rule would make; without one there is none to ask about.
      this.#stamped(leaf, rule, change).flatMap((stamped) =>
        this.#decider.sides(leaf, record, stamped).map(({ side, of, circumstances }) => ({
          side: side === 'before' ? ('as it is' as const) : ('as it would be' as const),
          part: this.#part(traceCondition(leaf.when, [of], circumstances), circumstances),
        })),
      ),
    );
    const truths = sides.map(({ part }) => part.truth);
    return {
      sides,
      truth: truths.includes(false) ? false : truths.includes(null) || truths.length === 0 ? null : true,
    };
  }

  /** The change with what the rule itself fills in. */
  #stamped({ pair }: TrueOf, rule: Rule | null, change: Change<Value>): Change<Value>[] {
    const { values } = this.#question;
    switch (change.kind) {
      case 'none':
        return [change];
      case 'created': {
        if (rule === null) return change.values.size === 0 ? [] : [change];
        const made = this.#decider.completed(pair.collection, values, rule);
        return [{ kind: 'created', values: new Map(Object.entries(made)) }];
      }
      case 'changed': {
        // On an update only a sentence about update alone stamps.
        const stamps =
          rule !== null && (pair.operation !== 'update' || rule.operations.size === 1) ? rule.stamps : [];
        const stamped = stamps.map(({ field, value }) => [field, this.#decider.valueOf(value)] as const);
        return [{ kind: 'changed', values: new Map([...change.values, ...stamped]) }];
      }
    }
  }

  #part(trace: Trace, circumstances: Circumstances): Part {
    const { condition, truth, seen, parts, looked, target } = trace;
    const inner = parts.map((part) => this.#part(part, circumstances));
    const whole: Part = {
      text: conditionWords(condition),
      truth,
      values: seen.map(({ operand, value }) => ({
        name: operandWords(operand),
        value: this.#seen(operand, value),
      })),
      parts: inner,
      note: null,
    };
    // “not” of a plain comparison reads better as its own opposite.
    if (condition.kind === 'not' && inner[0]!.parts.length === 0)
      return { ...whole, values: inner[0]!.values, parts: [], note: inner[0]!.note };
    if (condition.kind === 'may' && target !== undefined)
      return {
        ...whole,
        note:
          target === null
            ? 'there is no such record'
            : `ask why of ${this.#named(condition.collection, target)} to see how that was decided`,
      };
    if (condition.kind === 'has role')
      return {
        ...whole,
        note: `roles that count here: ${[...circumstances.roles].toSorted().join(', ') || 'none'}`,
      };
    if (looked === undefined || condition.kind !== 'some') return whole;
    const { collection, depth } = condition.range;
    return {
      ...whole,
      note: `${looked.count} ${looked.count === 1 ? 'record' : 'records'} of ${collection} looked at${looked.nearest.length === 0 ? '' : ', the nearest first'}`,
      parts: looked.nearest.map(({ record, trace: each }) => {
        const part = this.#part(each, circumstances);
        return { ...part, text: `${variableName(depth)} = ${this.#named(collection, record)}` };
      }),
    };
  }

  #seen(operand: Operand, value: Value): string | null {
    if (operand.kind === 'path') {
      const { collection, field } = operand.steps.at(-1)!;
      if (this.#hides(collection, field)) return value === null ? 'missing' : null;
    }
    return this.#value(operand.type, value);
  }

  #hides(collection: string, field: string): boolean {
    const sensitive = fieldOf(this.#rulebook.schema, collection, field)?.sensitive === true;
    return sensitive && !this.#options.showSensitive;
  }

  #value(type: Type, value: Value): string {
    if (value === null) return 'missing';
    if (type.kind === 'list')
      return `[${(value as readonly Value[]).map((each) => this.#value(type.of, each)).join(', ')}]`;
    if (type.kind !== 'ref') return valueWords(value);
    const record = this.#decider.world.look(type.collection, value as string);
    return record === null ? valueWords(value) : this.#named(type.collection, record);
  }

  #named(collection: string, record: RecordValues): string {
    const { label } = collectionOf(this.#rulebook.schema, collection);
    const known = label === null || this.#hides(collection, label) ? null : (record[label] ?? null);
    return `${collection} ${valueWords(known ?? record.id ?? null)}`;
  }
}

const nothing: Change<Value> = { kind: 'none' };

const beforeReferences: ReadonlySet<string> = new Set(['not covered', 'own record']);

/** The fences on the record, and those on the fields in question. */
function concerned({ barriers }: Permission, fields: readonly string[]): Barrier[] {
  return barriers.filter(({ about }) => about === null || fields.some((field) => about.has(field)));
}
