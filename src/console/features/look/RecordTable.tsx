import Box from '@mui/material/Box';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import { visuallyHidden } from '@mui/utils';
import type { Overview, RecordDocument } from '../../../client/desk.ts';
import { Changeable, Deletable, Missing, OnlyHere, Withheld } from './marks.tsx';

type Collection = Overview['collections'][number];

export interface RecordTableProps {
  readonly overview: Overview;
  readonly collection: Collection;
  readonly records: readonly RecordDocument[];
  readonly caption: string;
  /** The ids that the other identity sees; null where that is not known to the end. */
  readonly otherIds: ReadonlySet<string> | null;
  /** The record under the pointer, on either side. */
  readonly pointed: string | null;
  readonly onPoint: (id: string | null) => void;
  /** Asks why a cell (the label: the record) is as it is. */
  readonly onAsk: (record: RecordDocument, field: string) => void;
}

/** Records as one identity sees them. The label stays in place while the rest is scrolled. */
export function RecordTable({
  overview,
  collection,
  records,
  caption,
  otherIds,
  pointed,
  onPoint,
  onAsk,
}: RecordTableProps) {
  const names = columns(collection);
  const sticky = { position: 'sticky', left: 0, bgcolor: 'background.paper', zIndex: 1 } as const;
  return (
    <Table size="small" stickyHeader onMouseLeave={() => onPoint(null)}>
      <caption style={visuallyHidden}>{caption}</caption>
      <TableHead>
        <TableRow>
          {names.map((name, index) => (
            <TableCell
              key={name}
              scope="col"
              sx={{ bgcolor: 'background.paper', ...(index === 0 ? { ...sticky, zIndex: 3 } : {}) }}
            >
              <span title={name}>{titleOf(collection, name)}</span>
            </TableCell>
          ))}
        </TableRow>
      </TableHead>
      <TableBody>
        {records.map((record) => (
          <TableRow
            key={record.id}
            data-record={record.id}
            onMouseEnter={() => onPoint(record.id)}
            sx={
              pointed === record.id
                ? {
                    '& > td, & > th': {
                      bgcolor:
                        'color-mix(in srgb, var(--mui-palette-secondary-main) 14%, var(--mui-palette-background-paper))',
                    },
                  }
                : {}
            }
          >
            {names.map((name, index) => (
              <TableCell
                key={name}
                component={index === 0 ? 'th' : 'td'}
                {...(index === 0 ? { scope: 'row' } : {})}
                sx={index === 0 ? { ...sticky, fontWeight: 600 } : {}}
              >
                {index === 0 && otherIds !== null && !otherIds.has(record.id) && <OnlyHere />}
                <Box
                  component="button"
                  type="button"
                  onClick={() => onAsk(record, name)}
                  title={
                    index === 0
                      ? 'Ask why this record is seen'
                      : `Ask why ${titleOf(collection, name)} is seen or not`
                  }
                  sx={plainButton}
                >
                  {record._rights?.update.includes(name) === true ? (
                    <Changeable>
                      <Cell overview={overview} collection={collection} record={record} name={name} />
                    </Changeable>
                  ) : (
                    <Cell overview={overview} collection={collection} record={record} name={name} />
                  )}
                </Box>
                {index === 0 && record._rights?.delete === true && <Deletable />}
              </TableCell>
            ))}
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}

/** Reads as text, works as a button: every cell can be asked about with the keyboard, too. */
const plainButton = {
  all: 'unset',
  cursor: 'help',
  '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main' },
} as const;

function Cell({
  overview,
  collection,
  record,
  name,
}: {
  overview: Overview;
  collection: Collection;
  record: RecordDocument;
  name: string;
}) {
  if (record._withheld?.includes(name)) return <Withheld />;
  const value = (record as Record<string, unknown>)[name] ?? null;
  if (value === null) return <Missing />;
  const plain = Array.isArray(value) && value.length > 0 && value.every((each) => typeof each !== 'object');
  const text = typeof value === 'string' ? value : plain ? value.join(', ') : JSON.stringify(value);
  const reference = collection.fields.find((field) => field.name === name)?.reference ?? null;
  if (reference !== null) return <>{describeReference(overview, reference, record, name, text)}</>;
  // A long text is cut to the column; the whole of it shows when it is pointed at.
  return <span title={text.length > 20 ? text : undefined}>{text}</span>;
}

/** A test identity by its name, another record by the label that this identity sees of it, else the end of its id. */
function describeReference(
  overview: Overview,
  reference: string,
  record: RecordDocument,
  name: string,
  id: string,
): string {
  const identity = reference === 'people' ? overview.identities.find((each) => each.id === id) : undefined;
  if (identity !== undefined) return identity.name;
  const label = overview.collections.find((each) => each.name === reference)?.label ?? null;
  const target = record._included?.[name] as Record<string, unknown> | null | undefined;
  const known = label === null ? undefined : target?.[label];
  return typeof known === 'string' ? known : `…${id.slice(-6)}`;
}

function titleOf({ fields }: Collection, name: string): string {
  return fields.find((field) => field.name === name)?.title ?? name;
}

/** The label first, then the application’s own fields in the order of the rulebook. */
function columns({ fields, label }: Collection): string[] {
  const own = fields.filter((field) => !field.system && field.name !== label).map((field) => field.name);
  return [label ?? 'id', ...own];
}
