import ButtonBase from '@mui/material/ButtonBase';
import { useState } from 'react';

/** A technical name, which a click puts on the clipboard. Where there is none to write to, the name is still there to be marked. */
export function Copied({ text }: { text: string }) {
  const [isCopied, setCopied] = useState(false);
  return (
    <>
      <ButtonBase
        title="Copy"
        onClick={() => {
          // Browsers have no clipboard for pages that come over plain HTTP from another machine.
          const clipboard = navigator.clipboard as Clipboard | undefined;
          clipboard?.writeText(text).then(
            () => setCopied(true),
            () => setCopied(false),
          );
        }}
        onBlur={() => setCopied(false)}
        sx={{
          font: 'inherit',
          userSelect: 'text',
          '&:hover': { textDecoration: 'underline' },
          '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main' },
        }}
      >
        <code>{text}</code>
      </ButtonBase>{' '}
      <span role="status" style={{ fontSize: '0.75rem' }}>
        {isCopied ? 'copied' : ''}
      </span>
    </>
  );
}
