import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import NativeSelect from '@mui/material/NativeSelect';
import type { Completion } from '@codemirror/autocomplete';
import { useMemo } from 'react';
import type { BenchError } from '../../../client/desk.ts';
import { CodeEditor } from '../../code/CodeEditor.tsx';
import { replaced, textOf } from '../../working/texts.ts';
import { working, type Working } from '../../working/working.ts';

/** A text of the rulebook as it is, for whoever would rather write. */
export function WholeText({
  now,
  file,
  at,
  errors,
  words,
  canWrite,
  onFile,
  onBack,
}: {
  now: Working;
  file: string;
  at: { readonly at: number } | null;
  errors: readonly BenchError[];
  words: readonly Completion[];
  canWrite: boolean;
  onFile: (file: string) => void;
  onBack: () => void;
}) {
  const text = textOf(now.texts, file);
  const own = useMemo(() => errors.filter((error) => error.file === file), [errors, file]);
  return (
    <Box sx={{ display: 'flex', flexDirection: 'column', gap: 0.5, minHeight: 0, height: '100%' }}>
      <Box sx={{ display: 'flex', gap: 1, alignItems: 'center' }}>
        <NativeSelect
          value={file}
          inputProps={{ 'aria-label': 'Text' }}
          onChange={(event) => onFile(event.target.value)}
          sx={{ fontSize: '0.8rem' }}
        >
          {now.texts.map(({ name }) => (
            <option key={name}>{name}</option>
          ))}
        </NativeSelect>
        <Button size="small" variant="outlined" sx={{ ml: 'auto' }} onClick={onBack}>
          Back to the sentences
        </Button>
      </Box>
      <Box
        sx={{
          flex: 1,
          minHeight: 0,
          border: 1,
          borderColor: 'divider',
          borderRadius: 1,
          bgcolor: 'background.paper',
        }}
      >
        <CodeEditor
          key={file}
          label={`Text of ${file}`}
          text={text}
          faults={own}
          words={words}
          withLines
          goTo={at}
          onLeave={onBack}
          onChange={(put) => {
            if (canWrite)
              working.change(replaced(now.texts, { file, start: 0, end: text.length }, put), `text ${file}`);
          }}
        />
      </Box>
      <Box
        role="status"
        aria-label="Errors"
        sx={{ maxHeight: 110, overflow: 'auto', fontSize: '0.78rem', color: 'error.main' }}
      >
        {own.map((error) => (
          <Box key={`${error.code} ${error.start}`}>
            Line {error.line}: {error.message}
            {error.hint === undefined ? '' : ` — ${error.hint}`}{' '}
            {error.fix !== undefined && canWrite && (
              <Button
                size="small"
                color="inherit"
                sx={{ py: 0, fontSize: '0.73rem' }}
                onClick={() => {
                  const { start, end, text: put } = error.fix!;
                  working.change(replaced(now.texts, { file, start, end }, put));
                }}
              >
                {error.fix.description}
              </Button>
            )}
          </Box>
        ))}
      </Box>
    </Box>
  );
}
