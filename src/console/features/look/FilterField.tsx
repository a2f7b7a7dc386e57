import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { useState, type FormEvent } from 'react';

/** A condition of the rule language, for both sides at once. */
export function FilterField({ value, onApply }: { value: string; onApply: (value: string) => void }) {
  const [text, setText] = useState(value);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onApply(text.trim());
  };
  return (
    <Box component="form" role="search" onSubmit={submit} sx={{ display: 'flex', gap: 1 }}>
      <TextField
        size="small"
        label="Only where"
        value={text}
        onChange={(event) => setText(event.target.value)}
        sx={{ width: 340 }}
        slotProps={{ htmlInput: { spellCheck: false, maxLength: 4096 } }}
      />
      <Button type="submit" variant="outlined">
        Apply
      </Button>
      {value !== '' && (
        <Button type="button" onClick={() => onApply('')}>
          Clear
        </Button>
      )}
    </Box>
  );
}
