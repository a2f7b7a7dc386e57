import type { Span } from './span.ts';

/** The tree that the parser makes: what was written, before anything is known of its meaning. */

export interface Name {
  readonly text: string;
  readonly span: Span;
}

export type CompareOperator = '=' | '!=' | '<' | '<=' | '>' | '>=';

export type Expression =
  | { readonly kind: 'text'; readonly value: string; readonly span: Span }
  | { readonly kind: 'number'; readonly text: string; readonly span: Span }
  | { readonly kind: 'boolean'; readonly value: boolean; readonly span: Span }
  | { readonly kind: 'now' | 'today'; readonly span: Span }
  | {
      readonly kind: 'path';
      /** `bare`: `keeper.district`, or a variable; the others begin with their own word. */
      readonly root: 'bare' | 'this' | 'me' | 'old' | 'new';
      readonly steps: readonly Name[];
      readonly span: Span;
    }
  | {
      readonly kind: 'compare';
      readonly operator: CompareOperator;
      readonly left: Expression;
      readonly right: Expression;
      readonly span: Span;
    }
  | {
      readonly kind: 'in';
      readonly operand: Expression;
      readonly items: readonly Expression[];
      readonly negated: boolean;
      readonly span: Span;
    }
  /** `crew in me.crews`. */
  | {
      readonly kind: 'in list';
      readonly operand: Expression;
      readonly list: Expression;
      readonly negated: boolean;
      readonly span: Span;
    }
  | {
      readonly kind: 'missing';
      readonly operand: Expression;
      readonly negated: boolean;
      readonly span: Span;
    }
  /** `district within me.district`. */
  | {
      readonly kind: 'within';
      readonly left: Expression;
      readonly right: Expression;
      readonly span: Span;
    }
  | {
      readonly kind: 'text test';
      readonly operator: TextOperator;
      readonly left: Expression;
      readonly right: Expression;
      readonly span: Span;
    }
  | {
      /** `some v in visits has (…)`, and `no …`. */
      readonly kind: 'quantified';
      readonly quantifier: 'some' | 'no';
      readonly variable: Name;
      readonly collection: Name;
      readonly body: Expression;
      readonly span: Span;
    }
  | {
      /** `count(v in visits where …)`. */
      readonly kind: 'count';
      readonly variable: Name;
      readonly collection: Name;
      readonly where: Expression | null;
      readonly span: Span;
    }
  /** `lower(…)`, `length(…)`, or a `let`. */
  | {
      readonly kind: 'call';
      readonly name: Name;
      readonly arguments: readonly Expression[];
      readonly span: Span;
    }
  | { readonly kind: 'has role'; readonly role: Name; readonly span: Span }
  | {
      /** `me may read hive`, `me may update hive (notes)`. */
      readonly kind: 'may';
      readonly operation: 'read' | 'update' | 'delete';
      readonly target: Expression & { readonly kind: 'path' };
      /** For update alone. */
      readonly fields: readonly Name[];
      readonly span: Span;
    }
  | {
      /** `created_at + 48 hours`. */
      readonly kind: 'shift';
      readonly operand: Expression;
      readonly backwards: boolean;
      readonly amount: number;
      readonly unit: DurationUnit;
      readonly span: Span;
    }
  | { readonly kind: 'and' | 'or'; readonly operands: readonly Expression[]; readonly span: Span }
  | { readonly kind: 'not'; readonly operand: Expression; readonly span: Span };

export type TextOperator = 'contains' | 'starts with' | 'ends with';

export type DurationUnit = 'minutes' | 'hours' | 'days' | 'weeks';

/** `let on_duty(hive: hives) = CONDITION`: a condition with a name. */
export interface LetDeclaration {
  readonly kind: 'let';
  readonly name: Name;
  readonly parameters: readonly { readonly name: Name; readonly type: Name }[];
  readonly body: Expression;
  readonly span: Span;
}

export type TypeName =
  | { readonly kind: 'simple'; readonly name: Name }
  | {
      readonly kind: 'one of';
      readonly values: readonly { value: string; span: Span }[];
      readonly span: Span;
    }
  | { readonly kind: 'ref'; readonly collection: Name; readonly span: Span }
  /** `list of text`. */
  | { readonly kind: 'list'; readonly of: TypeName; readonly span: Span };

export type Mark = 'required' | 'unique' | 'label' | 'sensitive' | 'self set';

export interface FieldDeclaration {
  readonly name: Name;
  readonly title: string | null;
  readonly type: TypeName;
  readonly marks: readonly { readonly mark: Mark; readonly span: Span }[];
  readonly default: Expression | null;
  /** `up to 200`: how long a text may be. */
  readonly most: { readonly count: number; readonly span: Span } | null;
  /** `on delete remove`: what becomes of this record when the one that it points at is deleted. */
  readonly onDelete: { readonly rule: OnDelete; readonly span: Span } | null;
  /** `was queen_born`: its name in the version before. */
  readonly was: Name | null;
  /** `losing time`: of a timestamp that becomes a date. */
  readonly losing: Span | null;
  readonly span: Span;
}

/** `fill keeper from apiary.host`, `fill status = "kept"`: for records that have no value there. */
export interface FillClause {
  readonly field: Name;
  readonly value: Expression;
  readonly span: Span;
}

export type OnDelete = 'refuse' | 'remove' | 'clear';

export interface CollectionDeclaration {
  readonly kind: 'collection';
  /** `people` for the block that extends the built-in collection. */
  readonly name: Name;
  readonly title: string | null;
  readonly fields: readonly FieldDeclaration[];
  readonly owners: readonly (Expression & { kind: 'path' })[];
  /** `tree by parent`. */
  readonly tree: Name | null;
  /** `was apiaries`: its name in the version before. */
  readonly was: Name | null;
  readonly fills: readonly FillClause[];
  /** What stands between the brackets, piece by piece. */
  readonly pieces: readonly Span[];
  readonly span: Span;
}

export interface RoleDeclaration {
  readonly kind: 'role';
  readonly name: Name;
  readonly title: string | null;
  readonly inclusions: readonly Inclusion[];
  /** Who holds it, where nobody is given it by hand. */
  readonly when: Expression | null;
  readonly was: Name | null;
  readonly span: Span;
}

/** `includes keeper, inspector without hives (update)`: the limit holds for the roles of this clause alone. */
export interface Inclusion {
  readonly roles: readonly Name[];
  readonly limit: { readonly kind: 'only' | 'without'; readonly pairs: readonly PairClause[] } | null;
}

/** `read`, on every collection; `hives`, in every operation; `hives (update)`. */
export interface PairClause {
  readonly name: Name;
  readonly operations: readonly Name[] | null;
}

/** `attribute crews list of ref crews = every m.crew for m in crew_members where m.person = me`. */
export interface AttributeDeclaration {
  readonly kind: 'attribute';
  readonly name: Name;
  readonly type: TypeName;
  readonly was: Name | null;
  readonly value: Expression | EveryExpression;
  readonly span: Span;
}

export interface EveryExpression {
  readonly kind: 'every';
  readonly value: Expression;
  readonly variable: Name;
  readonly collection: Name;
  readonly where: Expression | null;
  readonly span: Span;
}

/** `claim tenant text from "https://hollowoak.example/tenant"`. */
export interface ClaimDeclaration {
  readonly kind: 'claim';
  readonly name: Name;
  readonly type: TypeName;
  readonly was: Name | null;
  readonly claim: string;
  readonly span: Span;
}

/** `time zone "Etc/GMT-2"`. */
export interface TimeZoneDeclaration {
  readonly kind: 'time zone';
  readonly name: { readonly value: string; readonly span: Span };
  readonly span: Span;
}

/** What somebody has looked at and means to be so, with the reason: verification counts it as no finding. */
export interface AcceptDeclaration {
  readonly kind: 'accept';
  readonly collection: Name;
  readonly accepted:
    /** `accept crew_members feeds crews because "…"`. */
    | { readonly kind: 'feeds'; readonly feeds: Name }
    /** `accept districts without owner because "…"`. */
    | { readonly kind: 'without owner' }
    /** `accept steward may update (status) on hives because "…"`. */
    | {
        readonly kind: 'reach';
        readonly who: RuleSentence['who'];
        readonly operations: readonly OperationClause[];
      };
  readonly because: string;
  readonly span: Span;
}

/** `action list on lots (price decimal) sets status = "listed", reserve = price`. */
export interface ActionDeclaration {
  readonly kind: 'action';
  readonly name: Name;
  readonly collection: Name;
  readonly parameters: readonly {
    readonly name: Name;
    readonly type: TypeName;
    readonly required: boolean;
  }[];
  readonly sets: readonly Assignment[];
  readonly span: Span;
}

/** `invariant "…" update hives (notes) only if keeper = me`. */
export interface InvariantDeclaration {
  readonly kind: 'invariant';
  readonly title: { readonly value: string; readonly span: Span };
  readonly operation: OperationClause;
  readonly collection: Name;
  readonly only: Expression;
  readonly span: Span;
}

/** `(a, b)`, `(all)`, `(all but a, b)`. */
export interface FieldList {
  readonly all: boolean;
  readonly names: readonly Name[];
  readonly span: Span;
}

export interface OperationClause {
  /** One of the four, or the name of an action. */
  readonly operation: string;
  readonly fields: FieldList | null;
  readonly span: Span;
}

export interface Assignment {
  readonly field: Name;
  readonly value: Expression | { readonly kind: 'none'; readonly span: Span };
}

export type Who = 'everybody' | 'people' | 'visitors';

export interface RuleSentence {
  readonly who: readonly (
    { readonly kind: Who; readonly span: Span } | { readonly kind: 'role'; readonly name: Name }
  )[];
  readonly operations: readonly OperationClause[];
  readonly when: Expression | null;
  readonly stamps: readonly Assignment[];
  readonly because: string | null;
  /** Who may do what, and when: the part of the sentence that decides. */
  readonly core: Span;
  readonly span: Span;
}

/** `nobody but treasurer may read (reserve_price) unless keeper = me`. */
export interface FenceSentence {
  /** The roles that it does not concern. */
  readonly but: readonly Name[];
  readonly operations: readonly OperationClause[];
  readonly unless: Expression | null;
  readonly because: string | null;
  /** Whom it stops, and unless what: the part of the sentence that decides. */
  readonly core: Span;
  readonly span: Span;
}

export interface RulesDeclaration {
  readonly kind: 'rules';
  /** At least one: each has all of the sentences. */
  readonly collections: readonly Name[];
  readonly sentences: readonly RuleSentence[];
  readonly fences: readonly FenceSentence[];
  readonly span: Span;
}

export interface RoleHolding {
  readonly role: Name;
  /** A date or a timestamp, as text. */
  readonly until: { readonly value: string; readonly span: Span } | null;
}

export interface IdentityDeclaration {
  readonly kind: 'identity';
  readonly name: Name;
  readonly roles: readonly RoleHolding[];
  readonly fields: readonly Assignment[];
  readonly deactivated: boolean;
  readonly pieces: readonly Span[];
  readonly span: Span;
}

/** A record by its label: `hives "OAK-001"`. */
export interface RecordName {
  readonly label: string;
  readonly span: Span;
}

export type ExpectationSentence = { readonly collection: Name; readonly span: Span } & (
  | { readonly kind: 'reads'; readonly records: readonly RecordName[]; readonly only: boolean }
  | { readonly kind: 'reads only where'; readonly where: Expression }
  | { readonly kind: 'reads none' }
  | { readonly kind: 'read'; readonly allowed: boolean; readonly record: RecordName }
  | {
      readonly kind: 'update';
      readonly allowed: boolean;
      readonly record: RecordName;
      readonly values: readonly Assignment[];
      readonly giving: readonly Assignment[];
    }
  | {
      readonly kind: 'act';
      readonly action: Name;
      readonly allowed: boolean;
      readonly record: RecordName;
      readonly values: readonly Assignment[];
      readonly giving: readonly Assignment[];
    }
  | {
      readonly kind: 'delete';
      readonly allowed: boolean;
      readonly record: RecordName;
      /** `takes along visits ("VISIT-1")`; null: nothing is said of it. */
      readonly takes:
        readonly { readonly collection: Name; readonly records: readonly RecordName[] }[] | null;
    }
  | {
      readonly kind: 'share';
      readonly allowed: boolean;
      readonly record: RecordName;
      /** A test identity, a role, `people` or `everybody`. */
      readonly target: { readonly kind: 'named' | 'people' | 'everybody'; readonly name: Name };
      /** Empty: to be read. */
      readonly operations: readonly Name[];
    }
  | {
      readonly kind: 'create';
      readonly allowed: boolean;
      readonly values: readonly Assignment[];
      readonly giving: readonly Assignment[];
    }
  | { readonly kind: 'withheld' | 'shows'; readonly record: RecordName; readonly fields: readonly Name[] }
);

export interface TrialPart {
  /** An identity's name, or null for the visitor. */
  readonly as: Name | null;
  /** The moment at which it is tried; null: now. */
  readonly at: { readonly value: string; readonly span: Span } | null;
  readonly expectations: readonly ExpectationSentence[];
  readonly span: Span;
}

/** `given hives (code = "OAK-900", keeper = ada)`. */
export interface GivenSentence {
  readonly collection: Name;
  readonly values: readonly Assignment[];
  readonly span: Span;
}

export interface TrialDeclaration {
  readonly kind: 'trial';
  readonly title: { readonly value: string; readonly span: Span };
  /** Records that are there for this trial alone. */
  readonly given: readonly GivenSentence[];
  readonly parts: readonly TrialPart[];
  readonly span: Span;
}

export type Declaration =
  | CollectionDeclaration
  | RoleDeclaration
  | LetDeclaration
  | AttributeDeclaration
  | ClaimDeclaration
  | AcceptDeclaration
  | TimeZoneDeclaration
  | ActionDeclaration
  | InvariantDeclaration
  | RulesDeclaration
  | IdentityDeclaration
  | TrialDeclaration;
