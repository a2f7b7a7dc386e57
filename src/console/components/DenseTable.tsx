import Paper from '@mui/material/Paper';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import type { ReactNode } from 'react';

/** A table for reading: its heads, and the rows below them. `label` says what it is to whoever cannot see it; `numbers`: heads of numbers. */
export function DenseTable({
  label,
  heads,
  numbers = [],
  children,
}: {
  label: string;
  heads: readonly string[];
  numbers?: readonly string[];
  children: ReactNode;
}) {
  return (
    <Paper variant="outlined" sx={{ overflow: 'auto' }}>
      <Table size="small" aria-label={label}>
        <TableHead>
          <TableRow>
            {heads.map((head) => (
              <TableCell key={head} align={numbers.includes(head) ? 'right' : 'left'}>
                {head}
              </TableCell>
            ))}
          </TableRow>
        </TableHead>
        <TableBody>{children}</TableBody>
      </Table>
    </Paper>
  );
}
