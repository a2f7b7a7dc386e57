import Box from '@mui/material/Box';
import { memo, type ReactNode } from 'react';
import { MONO } from '../theme.ts';
import { codeStyles, tones } from './highlight.ts';

/** Rules, to be read. */
export const Code = memo(function Code({ text }: { text: string }) {
  const parts: ReactNode[] = [];
  let at = 0;
  for (const { start, end, tone } of tones(text)) {
    if (start > at) parts.push(text.slice(at, start));
    parts.push(
      <span key={start} className={`fg-code-${tone}`}>
        {text.slice(start, end)}
      </span>,
    );
    at = end;
  }
  parts.push(text.slice(at));
  return (
    <Box
      component="code"
      sx={{
        display: 'block',
        whiteSpace: 'pre-wrap',
        overflowWrap: 'anywhere',
        fontFamily: MONO(),
        fontSize: '0.76rem',
        lineHeight: 1.5,
        ...codeStyles,
      }}
    >
      {parts}
    </Box>
  );
});
