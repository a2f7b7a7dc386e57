import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import InputBase from '@mui/material/InputBase';
import Popover from '@mui/material/Popover';
import { memo, useMemo, useState, type FormEvent } from 'react';
import { ConditionForm, type FormOffer } from './SentenceForm.tsx';

/** A condition of the rule language, asked by each of those pinned through their own masks. */
export const WhereField = memo(function WhereField({
  value,
  offer,
  onApply,
}: {
  value: string;
  offer: FormOffer;
  onApply: (value: string) => void;
}) {
  const [text, setText] = useState(value);
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  // A filter asks about records alone: neither who asks nor whose they are is known to it.
  const ofRecords = useMemo(() => ({ ...offer, me: [], lets: [], isOwned: false }), [offer]);
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
          width: 170,
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
      <Button
        type="button"
        size="small"
        aria-haspopup="dialog"
        aria-expanded={anchor !== null}
        onClick={(event) => setAnchor(event.currentTarget)}
      >
        By rows
      </Button>
      <Popover
        open={anchor !== null}
        anchorEl={anchor}
        onClose={() => setAnchor(null)}
        anchorOrigin={{ vertical: 'bottom', horizontal: 'left' }}
        slotProps={{
          paper: {
            'aria-label': 'Only where, by rows',
            role: 'dialog',
            sx: { p: 1.5, width: 420, display: 'grid', gap: 1 },
          },
        }}
      >
        <ConditionForm text={text} offer={ofRecords} onChange={setText} />
        <Button
          size="small"
          variant="contained"
          sx={{ justifySelf: 'end' }}
          onClick={() => {
            setAnchor(null);
            onApply(text.trim());
          }}
        >
          Apply
        </Button>
      </Popover>
      {value !== '' && (
        <Button type="button" size="small" onClick={() => onApply('')}>
          Clear
        </Button>
      )}
    </Box>
  );
});
