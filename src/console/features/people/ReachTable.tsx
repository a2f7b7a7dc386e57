import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import type { ReachDocument } from '../../../client/desk.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { NotDecided } from './NotDecided.tsx';

const wide = { maxWidth: 420, whiteSpace: 'normal', verticalAlign: 'top' } as const;
const narrow = { verticalAlign: 'top' } as const;
const system: ReadonlySet<string> = new Set(['id', 'created_at', 'updated_at']);

/** Everything that somebody can do: by collection and operation, on how many records, with which fields, by which rules. */
export function ReachTable({ reach }: { reach: ReachDocument }) {
  if (reach.reach.length === 0)
    return reach.undecided.length === 0 ? (
      <Typography>Nothing: no rule is true for them, or they are deactivated.</Typography>
    ) : (
      <>
        <Typography>Nothing, as far as that could be decided.</Typography>
        <NotDecided what={reach.undecided} />
      </>
    );
  const totals = new Map(reach.collections.map(({ name, total }) => [name, total]));
  const without = reach.collections.filter(({ name }) => !reach.reach.some((row) => row.collection === name));
  return (
    <>
      <DenseTable
        label="What they can do"
        heads={['Collection', 'May', 'Records', 'Fields (fewer records where a number stands)', 'Through']}
      >
        {reach.reach.map(({ collection, operation, records, fields, through }, index) => (
          <TableRow key={`${collection} ${operation}`}>
            <TableCell component="th" scope="row" sx={{ ...narrow, fontWeight: 600 }}>
              {index > 0 && reach.reach[index - 1]!.collection === collection ? '' : collection}
            </TableCell>
            <TableCell sx={narrow}>{operation}</TableCell>
            <TableCell sx={narrow}>
              {operation === 'create' ? 'new ones' : `${records} of ${totals.get(collection)}`}
            </TableCell>
            <TableCell sx={wide}>
              {Object.entries(fields)
                .filter(([field]) => !system.has(field))
                .map(([field, count]) => (count === records ? field : `${field} (${count})`))
                .join(', ')}
            </TableCell>
            <TableCell sx={wide}>
              {through
                .map(({ rule, audience, records: count }) => `${rule} ${audience} (${count})`)
                .join(', ')}
            </TableCell>
          </TableRow>
        ))}
      </DenseTable>
      {without.length > 0 && (
        <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem' }}>
          Nothing of {without.map(({ name }) => name).join(', ')}
          {reach.undecided.length > 0 && ', as far as that could be decided'}.
        </Typography>
      )}
      <NotDecided what={reach.undecided} />
    </>
  );
}
