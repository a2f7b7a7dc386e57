import type { Letter } from '../../store/invitations/index.ts';

/** What stands in a letter for what differs from one to the next. */
export const placeholders = {
  link: 'the link, which works once; it must be there',
  email: 'the address that is invited',
  roles: 'the roles that they will have, or “no role yet”',
  until: 'the day on which the roles end, or “no end”',
  expires: 'the day on which the link ends',
  by: 'who invites them',
} as const;
export type Placeholder = keyof typeof placeholders;

/** The letter for as long as nobody has written another. */
export const firstLetter: Letter = {
  subject: 'You are invited',
  body: `Hello,

{{by}} invites you ({{email}}).

Open this link and sign in; it works once, until {{expires}}:

{{link}}

You will have: {{roles}} ({{until}}).

If you did not expect this letter, do nothing: nobody learns that you have read it.
`,
};

const PLACE = /\{\{\s*([^{}]*?)\s*\}\}/g;

/** What is wrong with a letter, each in a sentence; empty where it is good. */
export function letterFaults({ subject, body }: Letter): string[] {
  const named = [...`${subject}\n${body}`.matchAll(PLACE)].map(([, name]) => name!);
  const unknown = [...new Set(named.filter((name) => !Object.hasOwn(placeholders, name)))];
  return [
    ...unknown.map(
      (name) =>
        `{{${name}}} is nothing that can be put in; there are: ${Object.keys(placeholders).join(', ')}`,
    ),
    ...(/\{\{\s*link\s*\}\}/.test(body)
      ? []
      : ['{{link}} must stand in the body: without it nobody could accept']),
    ...(/\{\{\s*link\s*\}\}/.test(subject)
      ? ['{{link}} must not stand in the subject, which is shown everywhere']
      : []),
    // oxlint-disable-next-line no-control-regex
    ...(/[\u0000-\u001f]/.test(subject) ? ['the subject is one line'] : []),
  ];
}

/** The letter with everything put in. */
export function filledLetter(
  { subject, body }: Letter,
  values: Readonly<Record<Placeholder, string>>,
): { readonly subject: string; readonly text: string } {
  const fill = (text: string) =>
    text.replaceAll(PLACE, (whole, name: string) => values[name as Placeholder] ?? whole);
  return { subject: fill(subject).replaceAll(/\s+/g, ' ').trim(), text: fill(body) };
}
