import { claimValue, type Claims } from '../evaluate/attributes.ts';
import type { Attribute, Rulebook } from '../ir/rulebook.ts';
import type { Step } from '../ir/conditions.ts';
import type { Type } from '../types/types.ts';
import { conditionSql, daySql, operandSql, typed, type Surroundings } from './conditions.ts';
import { sql, type Fragment } from './fragment.ts';
import { column, identifier } from './identifiers.ts';
import { relation } from './relations.ts';

/**
 * What is worked out of a caller, as SQL beside their row of people, so that it comes from the same snapshot:
 * `core/evaluate/attributes.ts` is the other engine.
 */
export interface ArrivalParts {
  /** Joins behind the row of people, each of one attribute, in their order. */
  readonly joins: readonly Fragment[];
  /** The value of each attribute. */
  readonly attributes: readonly { readonly name: string; readonly value: Fragment }[];
  /** One flag for each role that is held by a condition. */
  readonly roles: readonly { readonly role: string; readonly holds: Fragment }[];
}

/** `person` is the alias of the row of people, `email` what is known of the address, `now` the moment as a timestamptz. */
export function arrivalParts(
  rulebook: Pick<Rulebook, 'attributes' | 'roles' | 'schema' | 'timeZone'>,
  person: string,
  email: Fragment,
  now: Fragment,
  claims: Claims,
): ArrivalParts {
  const unchanged = (name: string) => relation(rulebook.schema, name);
  const around: Surroundings = {
    me(step: Step) {
      if (rulebook.attributes.has(step.field)) return column(aliasOf(step.field), step.field);
      return step.field === 'email' ? email : column(person, step.field);
    },
    literal: typed,
    hasRole: () => false,
    now,
    today: daySql(now, rulebook.timeZone),
    alias: person,
    field: (at, step) => column(at, step.field),
    relation: unchanged,
    unchanged,
    visible: () => null,
    // The checker keeps “me may” out of roles and attributes.
    may: () => sql`false`,
    // And shares are of rules alone.
    as: (_, inner) => inner,
  };
  const attributes = [...rulebook.attributes.values()];
  return {
    joins: attributes.map(
      (each) =>
        sql`cross join lateral (select ${valueSql(each, around, claims)} as ${identifier(each.name)}) as ${identifier(aliasOf(each.name))}`,
    ),
    attributes: attributes.map(({ name }) => ({ name, value: column(aliasOf(name), name) })),
    roles: [...rulebook.roles.values()].flatMap(({ name, when }) =>
      when === null ? [] : [{ role: name, holds: conditionSql(when, around) }],
    ),
  };
}

function aliasOf(attribute: string): string {
  return `a_${attribute}`;
}

function valueSql(attribute: Attribute, around: Surroundings, claims: Claims): Fragment {
  const { source, type } = attribute;
  switch (source.kind) {
    case 'claim':
      return typed(claimValue(attribute, claims), type);
    case 'value':
      return operandSql(source.operand, around);
    case 'every': {
      const found = sql`select ${operandSql(source.operand, around)} as each from ${around.relation(source.range.collection)} as ${identifier(`${around.alias}_v${source.range.depth}`)} where ${conditionSql(source.where, around)}`;
      return sql`array(select distinct ${ordered(type)} from (${found}) as found where each is not null order by 1)`;
    }
  }
}

/** In the order of the values themselves, on every machine. */
function ordered(type: Type): Fragment {
  const text = type.kind === 'list' && (type.of.kind === 'text' || type.of.kind === 'one of');
  return text ? sql`each collate "C"` : sql`each`;
}
