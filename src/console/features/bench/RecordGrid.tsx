import Box from '@mui/material/Box';
import { useVirtualizer } from '@tanstack/react-virtual';
import { memo, useEffect, useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent } from 'react';
import type { BenchPage, BenchRecord, Overview } from '../../../client/desk.ts';
import {
  Places,
  cellState,
  cellWords,
  isNow,
  markStyles,
  recordState,
  recordWords,
  wasSo,
} from '../../components/marks.tsx';
import { MADE_BY } from './made.ts';
import { LINE, type Density } from '../../theme.ts';
import { isNumber, nameOf, shownValue, widthsOf, type BenchField } from './values.ts';

export interface Spot {
  readonly record: BenchRecord;
  /** Null: the record itself. */
  readonly field: string | null;
}

export interface RecordGridProps {
  readonly overview: Overview;
  readonly label: string;
  /** The field that names the records; null: none does. */
  readonly labelField: string | null;
  readonly fields: readonly BenchField[];
  readonly records: readonly BenchRecord[];
  readonly labels: BenchPage['labels'];
  readonly hasActions: boolean;
  readonly as: readonly string[];
  readonly focus: number;
  /** Are values shown that the draft alone opens? */
  readonly isUnlocked: boolean;
  readonly density: Density;
  readonly more: boolean;
  readonly onMore: () => void;
  /** What is under the pointer, or has the keyboard. */
  readonly onPoint: (spot: Spot | null, byKey: boolean) => void;
  readonly onAsk: (spot: Spot) => void;
  readonly onFocus: (index: number) => void;
}

const HEAD = 26;

/** One table for all who are pinned: values as the one in focus sees them, and below each a place for everybody. */
export const RecordGrid = memo(function RecordGrid(props: RecordGridProps) {
  const { label, fields, records, as, density, more, onMore, onPoint, onAsk, onFocus } = props;
  const frame = useRef<HTMLDivElement>(null);
  const [room, setRoom] = useState(800);
  const [active, setActive] = useState({ row: 0, column: 0 });
  const [hasKeys, setKeys] = useState(false);
  const line = LINE[density];
  useLayoutEffect(() => {
    const observer = new ResizeObserver(([entry]) => setRoom(Math.floor(entry!.contentRect.width)));
    observer.observe(frame.current!);
    return () => observer.disconnect();
  }, []);
  const widths = useMemo(() => widthsOf(fields, as.length, room), [fields, as.length, room]);
  // The table is made anew whenever it is scrolled: nothing here is to be remembered by the compiler.
  // oxlint-disable-next-line react/incompatible-library
  const rows = useVirtualizer({
    count: records.length,
    getScrollElement: () => frame.current,
    estimateSize: () => line,
    overscan: 10,
    scrollPaddingStart: HEAD,
  });
  const columns = useVirtualizer({
    horizontal: true,
    count: fields.length,
    getScrollElement: () => frame.current,
    estimateSize: (index) => widths.columns[index]!,
    paddingStart: widths.label,
    scrollPaddingStart: widths.label,
    overscan: 3,
  });
  useEffect(() => rows.measure(), [line, rows]);
  useEffect(() => columns.measure(), [widths, columns]);

  const visible = rows.getVirtualItems();
  const last = visible.at(-1)?.index ?? 0;
  useEffect(() => {
    // Asked for long before the end is in sight, so that paging on meets no gap.
    if (more && last > records.length - 60) onMore();
  }, [more, last, records.length, onMore]);

  const row = Math.min(active.row, Math.max(0, records.length - 1));
  const column = Math.min(active.column, fields.length);
  const spotAt = (at: { row: number; column: number }): Spot | null => {
    const record = records[at.row];
    return record === undefined
      ? null
      : { record, field: at.column === 0 ? null : fields[at.column - 1]!.name };
  };
  const go = (next: { row: number; column: number }) => {
    setActive(next);
    rows.scrollToIndex(next.row);
    if (next.column > 0) columns.scrollToIndex(next.column - 1);
    onPoint(spotAt(next), true);
  };
  const page = Math.max(1, Math.floor((frame.current?.clientHeight ?? 400) / line) - 2);
  const onKey = (event: KeyboardEvent) => {
    if (event.ctrlKey && event.key !== 'Home' && event.key !== 'End') return;
    if (event.metaKey || event.altKey) return;
    const digit = Number(event.key);
    if (digit >= 1 && digit <= as.length) {
      event.preventDefault();
      onFocus(digit - 1);
      return;
    }
    const to = (nextRow: number, nextColumn: number) => {
      event.preventDefault();
      go({
        row: Math.max(0, Math.min(records.length - 1, nextRow)),
        column: Math.max(0, Math.min(fields.length, nextColumn)),
      });
    };
    switch (event.key) {
      case 'ArrowDown':
        return to(row + 1, column);
      case 'ArrowUp':
        return to(row - 1, column);
      case 'ArrowRight':
        return to(row, column + 1);
      case 'ArrowLeft':
        return to(row, column - 1);
      case 'PageDown':
        return to(row + page, column);
      case 'PageUp':
        return to(row - page, column);
      case 'Home':
        return to(event.ctrlKey ? 0 : row, 0);
      case 'End':
        return to(event.ctrlKey ? records.length - 1 : row, fields.length);
      case 'Enter':
      case ' ': {
        event.preventDefault();
        const spot = spotAt({ row, column });
        if (spot !== null) onAsk(spot);
      }
    }
  };

  const shown = columns
    .getVirtualItems()
    .map(({ index, start, size }) => ({ index, start, size, field: fields[index]! }));
  const width = widths.label + widths.columns.reduce((sum, each) => sum + each, 0);
  return (
    <Box
      ref={frame}
      role="grid"
      aria-label={label}
      aria-rowcount={more ? -1 : records.length + 1}
      aria-colcount={fields.length + 1}
      aria-describedby={MADE_BY}
      aria-activedescendant={hasKeys && records.length > 0 ? `cell-${row}-${column}` : undefined}
      tabIndex={0}
      onKeyDown={onKey}
      onFocus={() => {
        setKeys(true);
        onPoint(spotAt({ row, column }), true);
      }}
      onBlur={() => setKeys(false)}
      onMouseLeave={() => onPoint(null, false)}
      sx={gridStyles}
    >
      <Box sx={{ position: 'relative', width, minWidth: '100%', height: HEAD + rows.getTotalSize() }}>
        <div role="row" aria-rowindex={1} className="fg-head" style={{ height: HEAD, width }}>
          <div role="columnheader" aria-colindex={1} className="fg-first" style={{ width: widths.label }}>
            {props.labelField ?? 'record'}
          </div>
          {shown.map(({ index, start, size, field }) => (
            <div
              key={field.name}
              role="columnheader"
              aria-colindex={index + 2}
              title={`${field.name}: ${field.type}${field.sensitive ? ', sensitive' : ''}`}
              className={isNumber(field) ? 'fg-cell fg-right' : 'fg-cell'}
              style={{ left: start, width: size }}
            >
              {field.title ?? field.name}
              {field.side === 'both' ? '' : ` (${field.side})`}
            </div>
          ))}
        </div>
        {visible.map((item) => (
          <GridRow
            key={records[item.index]!.id}
            {...props}
            record={records[item.index]!}
            index={item.index}
            top={HEAD + item.start}
            height={line}
            labelWidth={widths.label}
            shown={shown}
            active={hasKeys && item.index === row ? column : null}
            onSpot={(field) => onPoint({ record: records[item.index]!, field }, false)}
            onClick={(field) => {
              const at = field === null ? 0 : fields.findIndex(({ name }) => name === field) + 1;
              setActive({ row: item.index, column: at });
              onAsk({ record: records[item.index]!, field });
            }}
          />
        ))}
      </Box>
    </Box>
  );
});

interface GridRowProps extends Omit<RecordGridProps, 'onPoint' | 'onAsk'> {
  readonly record: BenchRecord;
  readonly index: number;
  readonly top: number;
  readonly height: number;
  readonly labelWidth: number;
  readonly shown: readonly {
    readonly index: number;
    readonly start: number;
    readonly size: number;
    readonly field: BenchField;
  }[];
  /** The column that has the keyboard; null: none of this row. */
  readonly active: number | null;
  readonly onSpot: (field: string | null) => void;
  readonly onClick: (field: string | null) => void;
}

const GridRow = memo(
  function GridRow(props: GridRowProps) {
    const { record, index, top, height, labelWidth, shown, as, focus, active, hasActions } = props;
    const reads = record.reads[focus];
    const row = !isNow(reads) ? (wasSo(reads) ? 'fg-row fg-gone' : 'fg-row fg-unseen') : 'fg-row';
    const words = as.map((who, at) =>
      recordWords(who, { reads: record.reads[at], deletes: record.deletes[at], acts: record.acts[at] }),
    );
    const anyDeletes = /[123]/.test(record.deletes);
    const anyActs = hasActions && /[123]/.test(record.acts);
    return (
      <div
        role="row"
        aria-rowindex={index + 2}
        className={row}
        style={{ top, height }}
        data-record={record.id}
      >
        <div
          role="rowheader"
          id={`cell-${index}-0`}
          aria-colindex={1}
          aria-label={`${nameOf(record)}: ${words.join('; ')}`}
          className={active === 0 ? 'fg-first fg-active' : 'fg-first'}
          style={{ width: labelWidth }}
          onMouseEnter={() => props.onSpot(null)}
          onClick={() => props.onClick(null)}
        >
          <bdi className="fg-value" title={nameOf(record)}>
            {record.label ?? <i>{`…${record.id.slice(-6)}`}</i>}
          </bdi>
          <span className="fg-marks">
            <Places
              states={record.reads.split('').map((digit) => recordState(digit, 'sees'))}
              focus={focus}
            />
            {anyDeletes && (
              <Places
                states={record.deletes.split('').map((digit) => recordState(digit, 'deletes'))}
                focus={focus}
              />
            )}
            {anyActs && (
              <Places
                states={record.acts.split('').map((digit) => recordState(digit, 'acts'))}
                focus={focus}
              />
            )}
          </span>
        </div>
        {shown.map(({ index: at, start, size, field }) => (
          <Cell
            key={field.name}
            {...props}
            field={field}
            column={at + 1}
            left={start}
            width={size}
            isActive={active === at + 1}
          />
        ))}
      </div>
    );
  },
  (before, after) =>
    before.record === after.record &&
    before.top === after.top &&
    before.height === after.height &&
    before.focus === after.focus &&
    before.active === after.active &&
    before.as === after.as &&
    before.labels === after.labels &&
    before.isUnlocked === after.isUnlocked &&
    before.labelWidth === after.labelWidth &&
    before.shown.length === after.shown.length &&
    before.shown.every(
      (each, at) =>
        each.field === after.shown[at]!.field &&
        each.start === after.shown[at]!.start &&
        each.size === after.shown[at]!.size,
    ),
);

function Cell(
  props: GridRowProps & { field: BenchField; column: number; left: number; width: number; isActive: boolean },
) {
  const { overview, labels, record, as, focus, field, column, left, width, isActive, index } = props;
  const [sees, changes] = [record.sees[field.name] ?? '', record.changes[field.name] ?? ''];
  const { said, kind } = readAs(props, sees);
  const words = as.map((who, at) => cellWords(who, sees[at], changes[at]));
  const states = as.map((_, at) => cellState(sees[at], changes[at]));
  const isQuiet = !/[123]/.test(sees) && !/[123]/.test(changes);
  return (
    <div
      role="gridcell"
      id={`cell-${index}-${column}`}
      aria-colindex={column + 1}
      aria-label={`${field.title ?? field.name} ${said}: ${words.join('; ')}`}
      className={`fg-cell${isNumber(field) ? ' fg-right' : ''}${isActive ? ' fg-active' : ''}`}
      style={{ left, width }}
      onMouseEnter={() => props.onSpot(field.name)}
      onClick={() => props.onClick(field.name)}
    >
      <span className={`fg-value fg-is-${kind}`}>
        {kind === 'withheld' || kind === 'away' ? null : (
          <bdi title={said.length > 14 ? said : undefined}>{said}</bdi>
        )}
      </span>
      {isQuiet ? null : <Places states={states} focus={focus} />}
    </div>
  );

  function readAs({ isUnlocked }: GridRowProps, digits: string): { said: string; kind: string } {
    const digit = digits[focus];
    const value = record.values[field.name];
    const isTold = isUnlocked || as.some((_, at) => wasSo(digits[at]));
    const text = value === undefined ? '–' : shownValue(overview, labels, field, value);
    if (isNow(digit)) {
      if (!isTold) return { said: 'opened', kind: 'opened' };
      return { said: text, kind: digit === '1' ? 'gained' : value === undefined ? 'missing' : 'plain' };
    }
    if (digit === '2') return { said: text, kind: 'lost' };
    if (!isNow(record.reads[focus])) return { said: 'not seen', kind: 'away' };
    return { said: 'withheld', kind: 'withheld' };
  }
}

/** Withheld is hatched; a record that is not seen has no cells at all, and stands on the ground of the page. */
const gridStyles = {
  position: 'relative',
  overflow: 'auto',
  flex: 1,
  minHeight: 0,
  contain: 'strict',
  border: 1,
  borderColor: 'divider',
  borderRadius: 1,
  bgcolor: 'background.paper',
  fontSize: '0.78rem',
  lineHeight: '16px',
  '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main', outlineOffset: -2 },
  '& .fg-head': {
    position: 'sticky',
    top: 0,
    zIndex: 3,
    bgcolor: 'background.paper',
    borderBottom: '1px solid',
    borderColor: 'text.secondary',
    fontWeight: 650,
    color: 'text.secondary',
    '& > *': { py: '5px' },
  },
  '& .fg-row': {
    position: 'absolute',
    left: 0,
    width: '100%',
    borderBottom: '1px solid',
    borderColor: 'divider',
    bgcolor: 'background.paper',
    cursor: 'help',
    '&:hover': {
      bgcolor:
        'color-mix(in srgb, var(--mui-palette-secondary-main) 9%, var(--mui-palette-background-paper))',
    },
  },
  '& .fg-unseen, & .fg-gone': { bgcolor: 'background.default' },
  '& .fg-unseen .fg-first .fg-value': { color: 'text.secondary', fontWeight: 400, fontStyle: 'italic' },
  '& .fg-gone .fg-first .fg-value': { color: 'error.main', textDecoration: 'line-through' },
  '& .fg-first': {
    position: 'sticky',
    left: 0,
    zIndex: 2,
    height: '100%',
    bgcolor: 'inherit',
    fontWeight: 650,
    px: '8px',
    borderRight: '1px solid',
    borderColor: 'divider',
    overflow: 'hidden',
  },
  '& .fg-head .fg-first': { bgcolor: 'background.paper' },
  '& .fg-cell': {
    position: 'absolute',
    top: 0,
    height: '100%',
    px: '8px',
    overflow: 'hidden',
    whiteSpace: 'nowrap',
    textOverflow: 'ellipsis',
  },
  '& .fg-value': {
    display: 'block',
    height: 16,
    overflow: 'hidden',
    whiteSpace: 'nowrap',
    textOverflow: 'ellipsis',
  },
  '& .fg-marks': { display: 'flex', gap: '4px' },
  '& .fg-right': { textAlign: 'right', '& svg': { marginLeft: 'auto' } },
  '& .fg-active': { boxShadow: 'inset 0 0 0 2px var(--mui-palette-primary-main)' },
  '& .fg-is-missing': { color: 'text.secondary' },
  '& .fg-is-withheld': {
    height: 11,
    mt: '3px',
    mb: '2px',
    borderRadius: '2px',
    border: '1px solid var(--mui-palette-text-secondary)',
    opacity: 0.75,
    backgroundImage:
      'repeating-linear-gradient(135deg, var(--mui-palette-text-secondary) 0 1px, transparent 1px 5px)',
  },
  '& .fg-is-opened': { color: 'info.main', fontStyle: 'italic' },
  '& .fg-is-gained': { color: 'info.main', fontWeight: 600 },
  '& .fg-is-lost': { color: 'error.main', textDecoration: 'line-through' },
  ...markStyles,
} as const;
