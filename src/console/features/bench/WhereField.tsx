import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import InputBase from '@mui/material/InputBase';
import { useState, type FormEvent } from 'react';

/** A condition of the rule language, asked by each of those pinned through their own masks. */
export function WhereField({ value, onApply }: { value: string; onApply: (value: string) => void }) {
  const [text, setText] = useState(value);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onApply(text.trim());
  };
  return (
    <Box component="form" role="search" onSubmit={submit} sx={{ display: 'flex', gap: 0.5 }}>
      <InputBase
        value={text}
        placeholder="only where …"
        onChange={(event) => setText(event.target.value)}
        inputProps={{ 'aria-label': 'Only where', spellCheck: false, maxLength: 4096 }}
        sx={{
          width: 190,
          height: 26,
          px: 1,
          fontSize: '0.8rem',
          border: 1,
          borderColor: 'text.secondary',
          borderRadius: 1,
          bgcolor: 'background.paper',
          '&.Mui-focused': { outline: '2px solid', outlineColor: 'primary.main' },
        }}
      />
      {value !== '' && (
        <Button type="button" size="small" onClick={() => onApply('')}>
          Clear
        </Button>
      )}
    </Box>
  );
}
