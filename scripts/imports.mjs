// Imports point one way: core ← store ← service; client ← cli, console. The build fails where they do not.
import { capture, stop } from './lib/shell.mjs';

let report;
try {
  report = JSON.parse(capture('node_modules/.bin/depcruise', ['--config', '.dependency-cruiser.json', '--output-type', 'json', 'src', 'demo', 'bench']));
} catch (error) {
  // With errors the exit code says so, and the report is what was printed.
  const text = String(error.message);
  const begin = text.indexOf('{');
  if (begin === -1) throw error;
  report = JSON.parse(text.slice(begin, text.lastIndexOf('}') + 1));
}
const { totalCruised, violations } = report.summary;
// Without a parser for TypeScript the tool sees nothing and is content: that must not pass.
if (totalCruised < 50) stop(`Only ${totalCruised} modules were seen: the import check is not working.`);
for (const { rule, from, to } of violations) console.error(`${rule.name}: ${from} → ${to}`);
if (violations.length > 0) process.exit(1);
