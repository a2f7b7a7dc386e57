import type { Truth } from '../types/truth.ts';
import type { Part, RuleWhy, Why } from './why.ts';

/** How marks are drawn; the command line gives colours. */
export interface WhyPaint {
  readonly yes: (text: string) => string;
  readonly no: (text: string) => string;
  readonly faint: (text: string) => string;
  readonly strong: (text: string) => string;
}

/** The explanation as lines for people. Every mark is a sign beside its colour. */
export function whyLines(why: Why, paint: WhyPaint): string[] {
  const verdict = why.allowed ? paint.yes('✓ yes') : paint.no('✗ no');
  const lines = [`${verdict}  ${paint.strong(why.summary)}`];
  for (const stage of why.stages) {
    lines.push('', `${stage.answer ? paint.yes('✓') : paint.no('✗')} ${paint.strong(stage.question)}`);
    if (stage.note !== null && why.stages.length > 1) lines.push(`  ${paint.faint(stage.note)}`);
    const asked = stage.rules.filter((rule) => rule.sides !== null);
    const silent = stage.rules.filter((rule) => rule.sides === null);
    for (const rule of asked) lines.push(...ruleLines(rule, paint));
    if (asked.length === 0) lines.push('  no rule here speaks of this caller');
    if (silent.length > 0)
      lines.push(`  ${paint.faint(`not about this caller: ${silent.map((rule) => rule.id).join(', ')}`)}`);
  }
  if (why.remedies.length > 0) {
    lines.push('', 'It would be a yes');
    for (const { text } of why.remedies) lines.push(`  · ${text}`);
  } else if (!why.allowed) {
    lines.push('', paint.faint('No small change was found that would make it a yes.'));
  }
  return lines;
}

function ruleLines(rule: RuleWhy, paint: WhyPaint): string[] {
  const covers =
    rule.fields === null
      ? ''
      : rule.fields.length === 0
        ? rule.kind === 'rule'
          ? ', and covers none of these fields'
          : ''
        : ` (${rule.fields.join(', ')})`;
  const place = paint.faint(rule.line === 0 ? rule.file : `${rule.file}:${rule.line}`);
  const lines = [
    `  ${mark(rule.truth, paint)} ${rule.kind} ${rule.id}${covers}  ${place}`,
    `      ${rule.sentence}`,
  ];
  if (rule.because !== null) lines.push(`      ${paint.faint(`because ${rule.because}`)}`);
  const sides = rule.sides ?? [];
  const [first, second] = sides.map(({ part }) => JSON.stringify(part));
  // What is the same before and after is said once.
  const shown = first === second ? sides.slice(0, 1) : sides;
  for (const { side, part } of shown) {
    // A rule without a condition says all in its sentence.
    if (part.text === 'always' || part.text === 'never') continue;
    const both = shown.length < sides.length ? 'as it is, and as it would be' : side;
    if (sides.length > 1) lines.push(`      ${paint.faint(`${both}:`)}`);
    lines.push(...partLines(part, '      ', paint));
  }
  return lines;
}

function partLines(part: Part, indent: string, paint: WhyPaint): string[] {
  const values = part.values.map(({ name, value }) => `${name} is ${value ?? 'sensitive, and not shown'}`);
  const said = [...values, ...(part.note === null ? [] : [part.note])].join('; ');
  const line = `${indent}${mark(part.truth, paint)} ${part.text}${said === '' ? '' : paint.faint(`  — ${said}`)}`;
  return [line, ...part.parts.flatMap((each) => partLines(each, `${indent}  `, paint))];
}

function mark(truth: Truth, paint: WhyPaint): string {
  if (truth === null) return paint.no('?');
  return truth ? paint.yes('✓') : paint.no('✗');
}
