import Typography from '@mui/material/Typography';

/** Lines shown of what is not decided; the rest is counted. */
const SHOWN = 12;

/** What nobody could say yes or no to: it is no “no”. */
export function NotDecided({ what }: { what: readonly string[] }) {
  if (what.length === 0) return null;
  const more = what.length - SHOWN;
  return (
    <Typography sx={{ fontSize: '0.85rem', color: 'warning.main' }}>
      Not decided: {what.slice(0, SHOWN).join('; ')}
      {more > 0 && `; and ${more} more`}.
    </Typography>
  );
}
