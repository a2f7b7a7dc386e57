import { expect, test } from 'vitest';
import { checkRulebook } from '../../src/core/check/index.ts';
import { plainNames } from '../../src/core/passage/names.ts';
import { passageTo } from '../../src/core/passage/passage.ts';
import { touchedBy } from '../../src/core/trial/touched.ts';

const base = `people { level integer self set }
collection yards { name text required label }
collection hives { code text required label  yard ref yards }
collection notes { line text required label }
role keeper
rules yards { people may read }
rules hives { keeper may read when me may read yard }
rules notes { people may read when me.level is missing or me.level < 9 }
rules people { people may read (name)  people may update (level) when this = me }
test identity ada { name "Ada"  email "ada@hollowoak.example"  roles keeper }
trial "yards" { as ada { may read yards "North" } }
trial "hives" { as ada { may read hives "A" } }
trial "notes" { as ada { may read notes "first" } }
trial "given a hive" { given hives (code = "B") as ada { may read notes "first" } }`;

function touched(was: string, is: string): string[] {
  const [before, after] = [base, base.replace(was, is)].map((text) => {
    const checked = checkRulebook([{ name: 'a.gate', text }]);
    if (!checked.ok) throw new TypeError(checked.diagnostics[0]!.message);
    return checked.rulebook;
  });
  const passage = passageTo({ rulebook: before!, names: plainNames(before!) }, after!, 2, () => false);
  return after!.trials.filter(touchedBy(before!, after!, passage)).map(({ title }) => title);
}

test.each([
  [
    'a sentence of its collection, and those that follow it',
    'yards { people may',
    'yards { keeper may',
    ['yards', 'hives', 'given a hive'],
  ],
  ['a sentence that nothing follows', 'notes { people may', 'notes { keeper may', ['notes', 'given a hive']],
  [
    'its own text',
    'may read notes "first" } }\ntrial "given',
    'may not read notes "first" } }\ntrial "given',
    ['notes'],
  ],
  [
    'who callers are',
    'role keeper',
    'role warden role keeper includes warden',
    ['yards', 'hives', 'notes', 'given a hive'],
  ],
  [
    'what people may set in their own entry',
    ' self set }',
    ' }',
    ['yards', 'hives', 'notes', 'given a hive'],
  ],
  ['nothing', '', '', []],
])('a trial is touched by %s', (_, was, is, expected) => {
  expect(touched(was, is)).toEqual(expected);
});
