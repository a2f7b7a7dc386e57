import { Decider, type Decision, type Question } from '../evaluate/decide.ts';
import { traceCondition, type Trace } from '../evaluate/trace.ts';
import type { Circumstances } from '../evaluate/closures.ts';
import { actionGrants, fieldFences, recordFences, type Asked } from '../evaluate/combine.ts';
import type { RecordValues } from '../evaluate/caller.ts';
import type { Operand } from '../ir/conditions.ts';
import { actionKey, type Operation, type Rule, type Rulebook } from '../ir/rulebook.ts';
import { positionAt } from '../language/source.ts';
import { collectionOf, fieldOf } from '../types/schema.ts';
import type { Truth } from '../types/truth.ts';
import type { Type, Value } from '../types/types.ts';
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

/** The operations after which the record is as it was, or gone: there is no other side to ask. */
const unchanging: ReadonlySet<string> = new Set(['read', 'delete', 'share']);

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
        return named === ''
          ? 'nobody changes on their own record what decides about them'
          : `no rule lets ${name} supply ${named}`;
      case 'reference not readable':
        return `${named} would point at a record that ${name} cannot read`;
      case 'stamps differ':
        return 'rules would fill in different values, so none is';
      case 'unclear':
        return 'two rules would make different records, so neither is made';
      default:
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
        rules: this.#rulesOf('read', record, null, asked),
      });
      if (!readable || operation === 'read') return stages;
    }
    const names = [...values.keys()];
    if (decision.refusedBy !== 'not covered') stages.push(...this.#referenceStages(decision));
    if (decision.refusedBy === 'reference not readable') return stages;
    const after = decision.after ?? this.#thoughtOf();
    stages.push({
      question: `is there a rule that lets ${this.#options.name} ${operation} it${names.length > 0 ? ` (${names.join(', ')})` : ''}?`,
      answer: decision.allowed,
      note: decision.refusedBy === null ? null : this.#reason(decision, []),
      rules: this.#rulesOf(operation, record, after, names),
    });
    return stages;
  }

  /** Whether supplied references may point where they do; of those that may, the rules that say so are enough. */
  #referenceStages({ refusedBy, fields: refused }: Decision): Stage[] {
    const { operation, collection, values } = this.#question;
    const action = this.#rulebook.actions.get(actionKey(collection, operation));
    const types = action?.parameters ?? collectionOf(this.#rulebook.schema, collection).fields;
    return [...values].flatMap(([field, id]): Stage[] => {
      const { type } = types.get(field)!;
      if (type.kind !== 'ref' || id === null) return [];
      const isRefused = refusedBy === 'reference not readable' && refused.includes(field);
      if (refusedBy === 'reference not readable' && !isRefused) return [];
      const pointed = this.#decider.world.look(type.collection, id as string);
      const rules = pointed === null ? [] : this.#rulesAt(type.collection, 'read', pointed, null, []);
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

  /** The record as it would become, where no decision went so far: without stamps. */
  #thoughtOf(): RecordValues | null {
    const { operation, collection, record, values } = this.#question;
    if (operation === 'create') return null;
    const action = this.#rulebook.actions.get(actionKey(collection, operation));
    const changes = action === undefined ? values : this.#decider.valuesSet(action, values);
    return { ...record, ...Object.fromEntries(changes) };
  }

  #rulesOf(
    operation: Operation,
    record: RecordValues | null,
    after: RecordValues | null,
    fields: readonly string[],
  ): RuleWhy[] {
    return this.#rulesAt(this.#question.collection, operation, record, after, fields);
  }

  #rulesAt(
    collection: string,
    operation: Operation,
    record: RecordValues | null,
    after: RecordValues | null,
    fields: readonly string[],
  ): RuleWhy[] {
    const grants = this.#decider.grants(collection, operation);
    const isAbout = (asked: Asked) => {
      const covered = asked.operations.get(operation);
      return covered instanceof Set ? fields.filter((field) => covered.has(field)) : fields;
    };
    const action = this.#rulebook.actions.get(actionKey(collection, operation));
    // What is shared with the caller stands behind the rules of the rulebook.
    const shared = this.#decider.caller.shared ?? [];
    const rules = [...this.#rulebook.rules, ...shared].filter(
      (rule) => rule.collection === collection && rule.operations.has(operation),
    );
    const found = rules.map((rule): RuleWhy => {
      const speaks = grants.rules.includes(rule);
      const isWrite = !unchanging.has(operation);
      return {
        ...this.#place(rule),
        kind: 'rule',
        fields: fields.length === 0 || action !== undefined ? null : isAbout(rule),
        ...this.#asked(
          rule,
          speaks ? grants.roles : null,
          collection,
          record,
          isWrite ? after : null,
          operation,
        ),
      };
    });
    const concerned =
      action === undefined
        ? [
            ...recordFences(grants, operation),
            ...new Set(fields.flatMap((field) => fieldFences(grants, operation, field))),
          ].map((fence) => ({ fence, roles: grants.roles }))
        : this.#fencesOfAction(action);
    const fences = concerned.map(({ fence, roles }): RuleWhy => ({
      ...this.#place(fence),
      kind: 'fence',
      fields: fields.length === 0 || action !== undefined ? null : isAbout(fence),
      ...this.#asked(fence, roles, collection, record, unchanging.has(operation) ? null : after, operation),
    }));
    return [...found, ...fences];
  }

  #fencesOfAction(action: Parameters<typeof actionGrants>[2]) {
    const { own, updating } = actionGrants(this.#rulebook, this.#decider.caller, action);
    return [
      ...recordFences(own, action.name).map((fence) => ({ fence, roles: own.roles })),
      ...updating.fences.map((fence) => ({ fence, roles: updating.roles })),
    ];
  }

  #place(asked: Asked) {
    const source = this.#rulebook.sources.find((each) => each.name === asked.span.source)!;
    return {
      id: asked.id,
      sentence: asked.text,
      because: asked.because,
      file: source.name,
      line: positionAt(source, asked.span.start).line,
    };
  }

  /** `roles` null: it does not speak of the caller. */
  #asked(
    asked: Asked,
    roles: ReadonlySet<string> | null,
    collection: string,
    record: RecordValues | null,
    after: RecordValues | null,
    operation: Operation,
  ): Pick<RuleWhy, 'sides' | 'truth'> {
    if (roles === null) return { sides: null, truth: false };
    const decider = this.#decider;
    const sides: { side: 'as it is' | 'as it would be'; part: Part }[] = [];
    const add = (side: 'as it is' | 'as it would be', of: RecordValues, circumstances: Circumstances) =>
      sides.push({ side, part: this.#part(traceCondition(asked.when, [of], circumstances), circumstances) });
    if (operation === 'create') {
      const made =
        'stamps' in asked ? decider.completed(collection, this.#question.values, asked as Rule) : after;
      // A fence is asked of the record that some rule would make; without one there is none to ask about.
      if (made !== null) add('as it would be', made, decider.asCreated({ roles }, collection, made));
    } else if (after === null) {
      const old = { record: record!, look: decider.world.look };
      add('as it is', record!, { ...decider.around({ roles }), old });
    } else {
      // On an update only a sentence about update alone stamps.
      const stamps = 'stamps' in asked && (operation !== 'update' || asked.operations.size === 1);
      const stamped = stamps ? decider.stampsOf(asked as Rule) : new Map<string, Value>();
      const whole = { ...after, ...Object.fromEntries(stamped) };
      const both = decider.sides({ roles }, collection, record!, whole);
      add('as it is', record!, both.before);
      add('as it would be', whole, both.after);
    }
    const truths = sides.map(({ part }) => part.truth);
    return {
      sides,
      truth: truths.includes(false) ? false : truths.includes(null) || truths.length === 0 ? null : true,
    };
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
