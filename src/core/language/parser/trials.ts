import type {
  Assignment,
  ExpectationSentence,
  GivenSentence,
  IdentityDeclaration,
  RecordName,
  RoleHolding,
  TrialDeclaration,
  TrialPart,
  Name,
} from '../ast.ts';
import type { Span } from '../span.ts';
import type { Cursor } from './cursor.ts';
import { parseCollectionName, parseCondition, parseOperand } from './expressions.ts';
import { parseAssignment } from './rules.ts';

/** `test identity NAME { email "…" roles a, b until "…" FIELD value … deactivated }`. */
export function parseIdentity(cursor: Cursor): IdentityDeclaration {
  const start = cursor.expectKeyword('test', 'here');
  cursor.expectKeyword('identity', 'after “test”');
  const name = cursor.expectName('the name of the identity');
  cursor.expectSymbol('{', `to open ${name.text}`);
  const roles: RoleHolding[] = [];
  const fields: Assignment[] = [];
  const pieces: Span[] = [];
  let deactivated = false;
  while (!cursor.atEnd && !cursor.isSymbol('}')) {
    const begin = cursor.token.span;
    if (cursor.takeKeyword('roles')) {
      roles.push(...cursor.list(() => parseHolding(cursor)));
    } else if (cursor.takeKeyword('deactivated')) {
      deactivated = true;
    } else {
      const field = cursor.expectName('a field of people, “roles” or “deactivated”');
      fields.push({ field, value: parseOperand(cursor) });
    }
    pieces.push(cursor.since(begin));
  }
  cursor.expectSymbol('}', `to close ${name.text}`);
  return { kind: 'identity', name, roles, fields, deactivated, pieces, span: cursor.since(start) };
}

function parseHolding(cursor: Cursor): RoleHolding {
  const role = cursor.expectName('the name of a role');
  return { role, until: cursor.takeKeyword('until') ? cursor.expectText('a date or a time') : null };
}

/** `trial "TITLE" { as IDENTITY { expectation … } … }`. */
export function parseTrial(cursor: Cursor): TrialDeclaration {
  const start = cursor.expectKeyword('trial', 'here');
  const title = cursor.expectText('a title');
  cursor.expectSymbol('{', 'to open the trial');
  const parts: TrialPart[] = [];
  const given: GivenSentence[] = [];
  while (!cursor.atEnd && !cursor.isSymbol('}')) {
    if (cursor.isWord('given')) {
      const sentence = cursor.recover(
        () => parseGiven(cursor),
        () => cursor.isKeyword('as') || cursor.isWord('given'),
      );
      if (sentence !== null) given.push(sentence);
      continue;
    }
    const part = cursor.recover(
      () => parsePart(cursor),
      () => cursor.isKeyword('as'),
    );
    if (part !== null) parts.push(part);
  }
  cursor.expectSymbol('}', 'to close the trial');
  return { kind: 'trial', title, given, parts, span: cursor.since(start) };
}

/** `given COLLECTION (FIELD = VALUE, …)`: a record that is there for this trial alone. */
function parseGiven(cursor: Cursor): GivenSentence {
  const start = cursor.next().span;
  const collection = parseCollectionName(cursor);
  const values = parseAssignments(cursor);
  return { collection, values, span: cursor.since(start) };
}

function parsePart(cursor: Cursor): TrialPart {
  const start = cursor.expectKeyword('as', 'and an identity');
  const as = cursor.takeKeyword('visitor') ? null : cursor.expectName('a test identity, or “visitor”');
  let at: TrialPart['at'] = null;
  if (cursor.isWord('at')) {
    cursor.next();
    at = cursor.expectText('a time');
  }
  cursor.expectSymbol('{', 'to open the expectations');
  const expectations: ExpectationSentence[] = [];
  while (!cursor.atEnd && !cursor.isSymbol('}')) {
    const expectation = cursor.recover(
      () => parseExpectation(cursor),
      () => cursor.startsLine(),
    );
    if (expectation !== null) expectations.push(expectation);
  }
  cursor.expectSymbol('}', 'to close the expectations');
  return { as, at, expectations, span: cursor.since(start) };
}

function parseExpectation(cursor: Cursor): ExpectationSentence {
  const start = cursor.token.span;
  if (cursor.takeKeyword('reads')) {
    if (cursor.takeKeyword('no')) {
      const collection = parseCollectionName(cursor);
      return { kind: 'reads none', collection, span: cursor.since(start) };
    }
    const collection = parseCollectionName(cursor);
    const only = cursor.takeKeyword('only');
    if (only && cursor.takeKeyword('where')) {
      const where = parseCondition(cursor);
      return { kind: 'reads only where', collection, where, span: cursor.since(start) };
    }
    cursor.expectSymbol('(', 'before the labels of records');
    const records = cursor.list(() => parseRecordName(cursor));
    cursor.expectSymbol(')', 'after the last label');
    return { kind: 'reads', collection, only, records, span: cursor.since(start) };
  }
  if (cursor.isKeyword('withheld') || cursor.isKeyword('shows')) {
    const kind = cursor.takeKeyword('withheld') ? 'withheld' : (cursor.next(), 'shows' as const);
    const collection = parseCollectionName(cursor);
    const record = parseRecordName(cursor);
    cursor.expectSymbol('(', 'before the fields');
    const fields = cursor.list(() => cursor.expectName('the name of a field'));
    cursor.expectSymbol(')', 'after the last field');
    return { kind, collection, record, fields, span: cursor.since(start) };
  }
  cursor.expectKeyword('may', 'or “reads”, “withheld”, “shows”');
  const allowed = !cursor.takeKeyword('not');
  if (cursor.takeKeyword('read')) {
    const collection = parseCollectionName(cursor);
    return { kind: 'read', allowed, collection, record: parseRecordName(cursor), span: cursor.since(start) };
  }
  if (cursor.takeKeyword('delete')) {
    const collection = parseCollectionName(cursor);
    const record = parseRecordName(cursor);
    const takes = parseTakes(cursor);
    return { kind: 'delete', allowed, collection, record, takes, span: cursor.since(start) };
  }
  if (cursor.isWord('share')) {
    cursor.next();
    const collection = parseCollectionName(cursor);
    const record = parseRecordName(cursor);
    if (!cursor.isWord('with')) cursor.fail('P001', 'expected “with” and whom it is shared with');
    cursor.next();
    const target = parseTarget(cursor);
    const operations: Name[] = [];
    if (cursor.isWord('for')) {
      cursor.next();
      operations.push(...cursor.list(() => parseShared(cursor)));
    }
    return { kind: 'share', allowed, collection, record, target, operations, span: cursor.since(start) };
  }
  if (cursor.takeKeyword('update')) {
    const collection = parseCollectionName(cursor);
    const record = parseRecordName(cursor);
    const values = parseAssignments(cursor);
    const giving = parseGiving(cursor);
    return { kind: 'update', allowed, collection, record, values, giving, span: cursor.since(start) };
  }
  if (cursor.takeKeyword('create')) {
    const collection = parseCollectionName(cursor);
    const values = parseAssignments(cursor);
    const giving = parseGiving(cursor);
    return { kind: 'create', allowed, collection, values, giving, span: cursor.since(start) };
  }
  if (cursor.token.kind === 'name') {
    const action = cursor.expectName('the name of an action');
    const collection = parseCollectionName(cursor);
    const record = parseRecordName(cursor);
    const values = cursor.isSymbol('(') ? parseAssignments(cursor) : [];
    const giving = parseGiving(cursor);
    return { kind: 'act', action, allowed, collection, record, values, giving, span: cursor.since(start) };
  }
  return cursor.fail('P001', 'expected read, create, update, delete, share or the name of an action');
}

/** `takes along visits ("VISIT-1"), inspections ("INS-1")`: all that goes along, and nothing else. */
function parseTakes(cursor: Cursor): (ExpectationSentence & { kind: 'delete' })['takes'] {
  if (!cursor.isWord('takes')) return null;
  cursor.next();
  if (!cursor.isWord('along')) cursor.fail('P001', 'expected “along” and the records that go along');
  cursor.next();
  return cursor.list(() => {
    const collection = parseCollectionName(cursor);
    cursor.expectSymbol('(', 'before the labels of records');
    const records = cursor.list(() => parseRecordName(cursor));
    cursor.expectSymbol(')', 'after the last label');
    return { collection, records };
  });
}

function parseTarget(cursor: Cursor): (ExpectationSentence & { kind: 'share' })['target'] {
  for (const kind of ['people', 'everybody'] as const)
    if (cursor.isKeyword(kind)) return { kind, name: { text: kind, span: cursor.next().span } };
  return { kind: 'named', name: cursor.expectName('a test identity, a role, “people” or “everybody”') };
}

function parseShared(cursor: Cursor): Name {
  for (const operation of ['read', 'update', 'delete'] as const)
    if (cursor.isKeyword(operation)) return { text: operation, span: cursor.next().span };
  return cursor.fail('P001', 'expected read, update or delete');
}

function parseGiving(cursor: Cursor): Assignment[] {
  return cursor.takeKeyword('giving') ? cursor.list(() => parseAssignment(cursor)) : [];
}

function parseRecordName(cursor: Cursor): RecordName {
  const { value, span } = cursor.expectText('the label of a record');
  return { label: value, span };
}

function parseAssignments(cursor: Cursor): Assignment[] {
  cursor.expectSymbol('(', 'before the values');
  const values = cursor.isSymbol(')') ? [] : cursor.list(() => parseAssignment(cursor));
  cursor.expectSymbol(')', 'after the last value');
  return values;
}
