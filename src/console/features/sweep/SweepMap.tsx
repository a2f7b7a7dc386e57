import Box from '@mui/material/Box';
import FormControl from '@mui/material/FormControl';
import InputLabel from '@mui/material/InputLabel';
import NativeSelect from '@mui/material/NativeSelect';
import Paper from '@mui/material/Paper';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useState } from 'react';
import type { SweepDocument } from '../../../client/desk.ts';

type Reach = SweepDocument['reach'][number];

/** One place of the map: what a caller reaches of an owner’s records. */
interface Place {
  readonly caller: string;
  readonly owner: string | null;
}

const EVERY = 'all';

/** Caller against owner, with numbers; a cell opens the rules behind them. */
export function SweepMap({ sweep }: { sweep: SweepDocument }) {
  const [collection, setCollection] = useState(EVERY);
  const [place, setPlace] = useState<Place | null>(null);
  const reach = sweep.reach.filter((each) => collection === EVERY || each.collection === collection);
  const owners = [
    ...sweep.identities.filter((name) => reach.some((each) => each.owner === name)),
    ...(['*', null] as const).filter((owner) => reach.some((each) => each.owner === owner)),
  ];
  const at = ({ caller, owner }: Place) =>
    reach.filter((each) => each.caller === caller && each.owner === owner);
  return (
    <Box component="section" aria-label="Map">
      <Box sx={{ display: 'flex', alignItems: 'flex-end', gap: 3, mb: 1 }}>
        <Typography variant="h2" component="h2" sx={{ flex: 1 }}>
          Who reaches whose records
        </Typography>
        <FormControl variant="standard" sx={{ minWidth: 160 }}>
          <InputLabel htmlFor="sweep-collection">Collection</InputLabel>
          <NativeSelect
            value={collection}
            onChange={(event) => setCollection(event.target.value)}
            inputProps={{ id: 'sweep-collection' }}
          >
            <option value={EVERY}>all</option>
            {sweep.collections.map(({ name }) => (
              <option key={name} value={name}>
                {name}
              </option>
            ))}
          </NativeSelect>
        </FormControl>
      </Box>
      <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary', mb: 1 }}>
        A row is a caller, a column whose records they are. The number is records read; ✎ changed, ✕ deleted,
        ▸ acted on. Own records stand in a frame.
      </Typography>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'flex-start' }}>
        <Paper variant="outlined" sx={{ overflow: 'auto', flex: 1, minWidth: 0 }}>
          <Table size="small">
            <TableHead>
              <TableRow>
                <TableCell scope="col">caller</TableCell>
                {owners.map((owner) => (
                  <TableCell key={String(owner)} scope="col" align="right">
                    {ownerName(owner)}
                  </TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              {sweep.identities.map((caller) => (
                <TableRow key={caller}>
                  <TableCell component="th" scope="row" sx={{ fontWeight: 600 }}>
                    {caller}
                  </TableCell>
                  {owners.map((owner) => (
                    <MapCell
                      key={String(owner)}
                      place={{ caller, owner }}
                      reach={at({ caller, owner })}
                      chosen={place?.caller === caller && place.owner === owner}
                      onChoose={setPlace}
                    />
                  ))}
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Paper>
        {place !== null && <Rules place={place} reach={at(place)} />}
      </Box>
    </Box>
  );
}

function ownerName(owner: string | null): string {
  if (owner === null) return 'nobody’s';
  return owner === '*' ? 'others’' : owner;
}

function MapCell({
  place,
  reach,
  chosen,
  onChoose,
}: {
  place: Place;
  reach: readonly Reach[];
  chosen: boolean;
  onChoose: (place: Place) => void;
}) {
  const sum = (wanted: (operation: string) => boolean) =>
    reach.reduce(
      (all, { records }) =>
        all + Object.entries(records).reduce((some, [name, count]) => some + (wanted(name) ? count : 0), 0),
      0,
    );
  const reads = sum((name) => name === 'read');
  const isOwn = place.caller === place.owner;
  const marks = [
    ['✎', 'changed', sum((name) => name === 'update')],
    ['✕', 'deleted', sum((name) => name === 'delete')],
    ['▸', 'acted on', sum((name) => !['read', 'update', 'delete'].includes(name))],
  ] as const;
  return (
    <TableCell
      align="right"
      sx={{
        fontVariantNumeric: 'tabular-nums',
        maxWidth: 'none',
        px: '5px',
        ...(isOwn ? { outline: '1px solid', outlineColor: 'divider', outlineOffset: '-2px' } : {}),
        ...(chosen ? { bgcolor: 'action.selected' } : {}),
      }}
    >
      {reads === 0 ? (
        <Box component="span" sx={{ color: 'text.secondary' }} aria-label="nothing">
          ·
        </Box>
      ) : (
        <Box
          component="button"
          type="button"
          onClick={() => onChoose(place)}
          aria-label={`${place.caller} of ${ownerName(place.owner)}: ${reads} read${marks
            .filter(([, , count]) => count > 0)
            .map(([, word, count]) => `, ${count} ${word}`)
            .join('')}`}
          sx={{
            all: 'unset',
            cursor: 'pointer',
            '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main' },
          }}
        >
          {reads}
          {marks.map(([sign, word, count]) =>
            count === 0 ? null : (
              <Box
                key={word}
                component="span"
                sx={{ ml: 0.75, fontWeight: 700, color: isOwn ? 'primary.main' : 'secondary.main' }}
              >
                {sign}
                {count}
              </Box>
            ),
          )}
        </Box>
      )}
    </TableCell>
  );
}

/** The rules that let the caller, collection by collection. */
function Rules({ place, reach }: { place: Place; reach: readonly Reach[] }) {
  return (
    <Paper
      component="aside"
      aria-label="Rules behind the numbers"
      variant="outlined"
      sx={{ p: 1.5, width: 270, flexShrink: 0 }}
    >
      <Typography variant="h2" component="h3">
        {place.caller}, {ownerName(place.owner)}
      </Typography>
      {reach.length === 0 && <Typography>Nothing is reached here.</Typography>}
      {reach.map(({ collection, records, fields, through, total }) => (
        <Box key={collection} sx={{ mt: 1.25, fontSize: '0.82rem' }}>
          <strong>{collection}</strong>{' '}
          <Box component="span" sx={{ color: 'text.secondary' }}>
            of {total}
          </Box>
          {Object.entries(records).map(([operation, count]) => (
            <Box key={operation} sx={{ pl: 1 }}>
              {operation} {count}
              {operation === 'read' || operation === 'update'
                ? ` (${ownFields(fields[operation])})`
                : ''}{' '}
              <Box component="span" sx={{ color: 'text.secondary' }}>
                through {(through[operation] ?? []).join(', ')}
              </Box>
            </Box>
          ))}
        </Box>
      ))}
    </Paper>
  );
}

function ownFields(fields: Readonly<Record<string, number>>): string {
  return Object.keys(fields)
    .filter((field) => !['id', 'created_at', 'updated_at'].includes(field))
    .join(', ');
}
