import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { gate } from '../../api/client.ts';
import { useUnlocked } from '../../api/session.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';

const FIRST = 50;

/** Single records that people share with each other; staff can take a share back. */
export function SharesPanel() {
  const queries = useQueryClient();
  const isUnlocked = useUnlocked();
  const [isAll, setAll] = useState(false);
  const shares = useQuery({ queryKey: ['shares'], queryFn: () => gate.everyShare() });
  const remove = useMutation({
    mutationFn: (id: string) => gate.removeShare(id),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['shares'] }),
  });
  const all = shares.data ?? [];
  if (shares.isSuccess && all.length === 0) return null;
  return (
    <Box component="section" aria-label="Shares" sx={{ display: 'grid', gap: 0.75 }}>
      <Typography variant="h2">Shares</Typography>
      {shares.isError && <ErrorNote error={shares.error} retry={() => void shares.refetch()} />}
      {all.length > 0 && (
        <DenseTable label="Shares" heads={['record of', 'to be', 'with', 'since', 'until', '']}>
          {(isAll ? all : all.slice(0, FIRST)).map((share) => (
            <TableRow key={share.id}>
              <TableCell title={share.record}>
                {share.collection} …{share.record.slice(-6)}
              </TableCell>
              <TableCell>{share.operations.join(', ')}</TableCell>
              <TableCell>
                {share.role ?? share.audience ?? `a person …${share.person?.slice(-6) ?? ''}`}
              </TableCell>
              <TableCell>{new Date(share.created_at).toLocaleDateString()}</TableCell>
              <TableCell>
                {share.ends === null ? 'taken back' : new Date(share.ends).toLocaleDateString()}
              </TableCell>
              <TableCell>
                <Button
                  size="small"
                  color="error"
                  disabled={!isUnlocked || remove.isPending}
                  onClick={() => remove.mutate(share.id)}
                >
                  Take back
                </Button>
              </TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      {all.length > FIRST && !isAll && (
        <Button size="small" sx={{ justifySelf: 'start' }} onClick={() => setAll(true)}>
          All {all.length}
        </Button>
      )}
      {remove.isError && <ErrorNote error={remove.error} />}
    </Box>
  );
}
