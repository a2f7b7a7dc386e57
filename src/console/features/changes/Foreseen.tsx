import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { gate } from '../../api/client.ts';
import { GainedAndLostFigure } from '../../charts/Figures.tsx';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { Falling, Rising } from '../../components/marks.tsx';

/** What a version was foreseen to do when it was published, in counts. */
export function Foreseen({ version }: { version: number }) {
  const found = useQuery({
    queryKey: ['version', version],
    queryFn: () => gate.version(version),
    staleTime: Infinity,
  });
  if (found.isError) return <ErrorNote error={found.error} retry={() => void found.refetch()} />;
  if (found.data === undefined) return null;
  const { preview } = found.data;
  if (preview === null)
    return <Typography color="text.secondary">Nobody named a preview when it was published.</Typography>;
  const { effects, lockedOut, frozen, withheld, made_at, made_by } = preview;
  const rows = (effects ?? []).map(({ operation, collection, fields, ...counts }) => ({
    ...counts,
    what: `${operation} ${collection} (${fields.map((field) => field ?? 'the record').join(', ')})`,
  }));
  const more = [
    ...lockedOut.map(({ collection, callers }) => `${callers} could do nothing with ${collection} any more.`),
    ...frozen.map(
      (collection) => `Nobody who was looked at could change anything in ${collection} any more.`,
    ),
    ...(effects === null ? ['Nothing was counted.'] : []),
    ...(effects?.length === 0 && !withheld ? ['Nothing, on the records that were there.'] : []),
    ...(withheld ? ['What it did for very few people is not kept.'] : []),
  ];
  return (
    <>
      <Typography variant="h2">
        What it was foreseen to do, {new Date(made_at).toLocaleString()}, by {made_by}
      </Typography>
      <GainedAndLostFigure rows={rows} />
      {rows.length > 0 && (
        <DenseTable
          label="What it was foreseen to do"
          heads={['what', 'gained', 'lost', 'callers']}
          numbers={['gained', 'lost', 'callers']}
        >
          {rows.map(({ what, gained, lost, callers }) => (
            <TableRow key={what}>
              <TableCell sx={{ '&&': { maxWidth: 620, whiteSpace: 'normal' } }}>{what}</TableCell>
              <TableCell align="right">{gained > 0 && <Rising count={gained} />}</TableCell>
              <TableCell align="right">{lost > 0 && <Falling count={lost} />}</TableCell>
              <TableCell align="right">{callers}</TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      {more.map((each) => (
        <Typography key={each} sx={{ color: 'text.secondary', fontSize: '0.82rem' }}>
          {each}
        </Typography>
      ))}
    </>
  );
}
