import Box from '@mui/material/Box';
import Button from '@mui/material/Button';

/** Some of several, each chosen or not by itself: roles, areas, fields. */
export function Choices({
  label,
  options,
  chosen,
  onChange,
}: {
  label: string;
  options: readonly string[];
  chosen: readonly string[];
  onChange: (chosen: readonly string[]) => void;
}) {
  return (
    <Box role="group" aria-label={label} sx={{ display: 'flex', gap: 0.5, flexWrap: 'wrap' }}>
      {options.map((option) => {
        const on = chosen.includes(option);
        return (
          <Button
            key={option}
            size="small"
            aria-pressed={on}
            variant={on ? 'contained' : 'outlined'}
            onClick={() => onChange(on ? chosen.filter((each) => each !== option) : [...chosen, option])}
            sx={{ py: 0, minHeight: 26, fontSize: '0.78rem' }}
          >
            {option}
          </Button>
        );
      })}
    </Box>
  );
}
