// Imports point one way: core ← store ← service; client ← cli, console. The build fails where they do not.
import { spawnSync } from 'node:child_process';
import { readFileSync, readdirSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { parseSync } from '@swc/core';
import { root, stop } from './lib/shell.mjs';

const words = ['--config', '.dependency-cruiser.json', '--output-type', 'json', 'src', 'demo', 'bench'];
const cruise = spawnSync('node_modules/.bin/depcruise', words, {
  cwd: root,
  encoding: 'utf8',
  maxBuffer: 1 << 28,
});
if (!cruise.stdout.startsWith('{')) stop(`The import check does not run:\n${cruise.stderr}`);
const { totalCruised, violations } = JSON.parse(cruise.stdout).summary;
// Without a parser for TypeScript the tool sees nothing and is content: that must not pass.
if (totalCruised < 50) stop(`Only ${totalCruised} modules were seen: the import check is not working.`);
for (const { rule, from, to } of violations) console.error(`${rule.name}: ${from} → ${to}`);

// The tool cannot read TSX, so the console's components are read here: they know themselves, the client, and how sentences are read.
const components = readdirSync(join(root, 'src/console'), { recursive: true }).filter((name) =>
  name.endsWith('.tsx'),
);
if (components.length === 0) stop('No component was seen: the import check is not working.');
let strays = 0;
for (const name of components) {
  const file = join(root, 'src/console', name);
  const { body } = parseSync(readFileSync(file, 'utf8'), { syntax: 'typescript', tsx: true });
  for (const { source } of body) {
    if (!source?.value.startsWith('.')) continue;
    const target = relative(root, join(dirname(file), source.value));
    if (/^src\/(console|client|core\/language)\//.test(target)) continue;
    console.error(`console-through-the-client: src/console/${name} → ${target}`);
    strays++;
  }
}

// Tables of records and keys have one place that says how they are written: no query does so by itself.
const queries = readdirSync(join(root, 'src'), { recursive: true }).filter(
  (name) => name.endsWith('.ts') && !/^store\/migrations\/|^core\/sql\/identifiers\.ts$/.test(name),
);
let [templates, own] = [0, 0];
for (const name of queries) {
  const text = readFileSync(join(root, 'src', name), 'utf8');
  for (const part of templatesOf(parseSync(text, { syntax: 'typescript' }))) {
    templates++;
    const found = /::\s*uuid|\brecords"?\s*\.|\bcast\s*\([^)]*\buuid/i.exec(part);
    if (found === null) continue;
    console.error(
      `one-relation-one-key: src/${name} writes “${found[0]}” in a query: see src/core/sql/identifiers.ts`,
    );
    own++;
  }
}
// What is read goes by an alias: where names differ from columns it is a query, which must have one.
for (const name of queries) {
  const text = readFileSync(join(root, 'src', name), 'utf8');
  for (const found of text.matchAll(/\$\{(relation|unfilled|around\.relation)\([^)]*\)\}(?! as )/g)) {
    console.error(`relations-have-aliases: src/${name} reads from ${found[1]}(…) without “as”`);
    own++;
  }
}
if (templates < 100) stop(`Only ${templates} queries were seen: the check of them is not working.`);
if (violations.length + strays + own > 0) process.exit(1);

/** The fixed text of every query: what stands in a template of `sql`. */
function templatesOf(node) {
  if (typeof node !== 'object' || node === null) return [];
  if (Array.isArray(node)) return node.flatMap(templatesOf);
  const own =
    node.type === 'TaggedTemplateExpression' && node.tag.value === 'sql'
      ? [node.template.quasis.map(({ cooked, raw }) => cooked ?? raw).join('${}')]
      : [];
  return [...own, ...Object.values(node).flatMap(templatesOf)];
}
