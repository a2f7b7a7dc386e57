import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import NativeSelect from '@mui/material/NativeSelect';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useId, useState, type FormEvent } from 'react';
import type { BenchRecord, Overview, RehearsedDocument, RehearseRequest } from '../../../client/desk.ts';
import { gate } from '../../api/client.ts';
import { useUnlocked } from '../../api/session.ts';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { MONO } from '../../theme.ts';
import { keepAsTrial, trialSentence, type Supplied } from '../../working/trials.ts';
import { working } from '../../working/working.ts';
import { nameOf } from './values.ts';

type Collection = Overview['collections'][number];

export interface TryPanelProps {
  readonly overview: Overview;
  readonly collection: Collection;
  readonly as: readonly string[];
  readonly focus: number;
  /** Null: a new record. */
  readonly record: BenchRecord | null;
  readonly field: string | null;
  /** Null: by the rules in force. */
  readonly files: RehearseRequest['files'] | null;
  readonly canWrite: boolean;
}

/** A write as one of those pinned: carried out in full, answered as it goes over HTTP, and taken back. */
export function TryPanel(props: TryPanelProps) {
  const { overview, collection, as, focus, record, field, files, canWrite } = props;
  const queries = useQueryClient();
  const isUnlocked = useUnlocked();
  const who = as[focus] ?? 'visitor';
  const [operation, setOperation] = useState(record === null ? 'create' : 'update');
  const own = collection.fields.filter(({ system }) => !system);
  const action = collection.actions.find(({ name }) => name === operation);
  const offered = operation === 'delete' ? [] : (action?.parameters ?? own);
  const [shown, setShown] = useState<readonly string[]>(
    field !== null && own.some(({ name }) => name === field) ? [field] : [],
  );
  const [supplied, setSupplied] = useState<Readonly<Record<string, Supplied>>>({});
  const [kept, setKept] = useState(false);
  const rows = operation === 'update' ? offered.filter(({ name }) => shown.includes(name)) : offered;
  const given = rows.flatMap(
    (row): (Supplied & { name: string; type: string; reference: string | null })[] => {
      const value = supplied[row.name];
      return value === undefined ? [] : [{ ...row, ...value }];
    },
  );
  const attempt = useMutation({
    mutationFn: (stays: boolean) => {
      setKept(false);
      return gate.rehearseAs({
        as: who,
        operation,
        collection: collection.name,
        ...(record === null ? {} : { record: record.id }),
        ...(operation === 'delete'
          ? {}
          : { values: Object.fromEntries(given.map((each) => [each.name, rawValue(each)])) }),
        ...(files === null ? {} : { files }),
        ...(stays ? { stays } : {}),
      });
    },
    onSuccess: (_, stays) => {
      if (stays) void queries.invalidateQueries();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    attempt.mutate(false);
  };
  const result = attempt.data;
  const label = record === null ? null : record.label;
  const sentence =
    result === undefined
      ? null
      : trialSentence({
          overview,
          operation,
          collection: collection.name,
          label,
          given,
          allowed: result.status < 300,
        });
  return (
    <Box sx={{ p: 2, display: 'grid', gap: 1, fontSize: '0.82rem' }}>
      <Typography variant="h2" component="h2">
        Try as {who}
        {record === null ? '' : `: ${nameOf(record)}`}
      </Typography>
      <Box component="form" onSubmit={submit} sx={{ display: 'grid', gap: 0.75 }}>
        <NativeSelect
          value={operation}
          inputProps={{ 'aria-label': 'What is tried' }}
          onChange={(event) => {
            setOperation(event.target.value);
            attempt.reset();
          }}
          sx={{ fontSize: '0.82rem' }}
        >
          {record === null ? (
            <option value="create">create a record</option>
          ) : (
            <>
              <option value="update">change it</option>
              <option value="delete">delete it</option>
              {collection.actions.map(({ name }) => (
                <option key={name} value={name}>
                  {name}
                </option>
              ))}
            </>
          )}
        </NativeSelect>
        {rows.map((row) => (
          <Value
            key={row.name}
            overview={overview}
            row={row}
            value={supplied[row.name]}
            onChange={(value) => {
              const { [row.name]: _, ...others } = supplied;
              setSupplied(value === null ? others : { ...others, [row.name]: value });
            }}
          />
        ))}
        {operation === 'update' && shown.length < own.length && (
          <NativeSelect
            value=""
            inputProps={{ 'aria-label': 'Change another field, too' }}
            onChange={(event) => setShown([...shown, event.target.value])}
            sx={{ fontSize: '0.78rem' }}
          >
            <option value="" disabled>
              + field…
            </option>
            {own
              .filter(({ name }) => !shown.includes(name))
              .map(({ name }) => (
                <option key={name}>{name}</option>
              ))}
          </NativeSelect>
        )}
        <Box sx={{ display: 'flex', gap: 1 }}>
          <Button
            type="submit"
            size="small"
            variant="contained"
            disabled={attempt.isPending || (operation === 'update' && given.length === 0)}
          >
            {attempt.isPending ? 'Trying…' : 'Try'}
          </Button>
          {files === null && isUnlocked && (
            <Button
              size="small"
              color="error"
              variant="outlined"
              disabled={attempt.isPending}
              onClick={() => attempt.mutate(true)}
            >
              Do it, to stay
            </Button>
          )}
        </Box>
      </Box>
      {attempt.isError && <ErrorNote error={attempt.error} />}
      {result !== undefined && <Result result={result} who={who} stayed={attempt.variables} />}
      {sentence !== null && canWrite && attempt.variables !== true && (
        <Box>
          <Button
            size="small"
            variant="outlined"
            disabled={kept}
            onClick={() => {
              working.change(keepAsTrial(working.current()!.texts, who, sentence));
              setKept(true);
            }}
          >
            {kept ? 'It stands among the trials of the draft' : 'Keep as a trial'}
          </Button>
          <Typography
            component="code"
            sx={{
              display: 'block',
              fontFamily: MONO(),
              fontSize: '0.74rem',
              color: 'text.secondary',
              mt: 0.5,
              overflowWrap: 'anywhere',
            }}
          >
            as {who} {'{'} {sentence} {'}'}
          </Typography>
        </Box>
      )}
    </Box>
  );
}

function Result({ result, who, stayed }: { result: RehearsedDocument; who: string; stayed: boolean }) {
  const { status, body, hidden, request, left } = result;
  const isYes = status < 300;
  const said = isYes
    ? stayed
      ? 'Carried out, to stay.'
      : 'It would be carried out; it was taken back.'
    : `${text(body?.title)}. ${text(body?.detail)}`;
  return (
    <Box role="status" sx={{ display: 'grid', gap: 0.75 }}>
      <Alert severity={isYes ? 'success' : 'warning'} variant="outlined" sx={{ py: 0 }}>
        <strong>{status}</strong> {said}
      </Alert>
      {body !== null && (
        <Box component="pre" tabIndex={0} aria-label="Body of the answer" sx={codeBlock}>
          {JSON.stringify(body, null, 1)}
        </Box>
      )}
      {hidden && (
        <Typography sx={{ fontSize: '0.76rem', color: 'text.secondary' }}>
          The record itself is shown after an unlock: by a draft it may be what nobody sees in force.
        </Typography>
      )}
      {left.map((each) => (
        <Typography key={each} sx={{ fontSize: '0.76rem', color: 'text.secondary' }}>
          {each}
        </Typography>
      ))}
      <Box component="pre" tabIndex={0} aria-label="The same with curl" sx={codeBlock}>
        {curlLine(request, who)}
      </Box>
    </Box>
  );
}

function text(value: unknown): string {
  return typeof value === 'string' ? value : '';
}

const codeBlock = {
  m: 0,
  p: 0.75,
  fontFamily: MONO(),
  fontSize: '0.73rem',
  whiteSpace: 'pre-wrap',
  overflowWrap: 'anywhere',
  maxHeight: 170,
  overflow: 'auto',
  border: 1,
  borderColor: 'divider',
  borderRadius: 1,
  bgcolor: 'background.paper',
} as const;

/** For a terminal: with the name of a token, and never with one. */
function curlLine({ method, path, body }: RehearsedDocument['request'], who: string): string {
  const parts = [
    `curl -i -X ${method} ${window.location.origin}${path}`,
    ...(who === 'visitor' ? [] : ['-H "Authorization: Bearer $TOKEN"']),
    "-H 'Firmgate-Rehearsal: true'",
    ...(body === null
      ? []
      : ["-H 'Content-Type: application/json'", `-d '${JSON.stringify(body).replaceAll("'", "'\\''")}'`]),
  ];
  return parts.join(' \\\n  ');
}

function Value({
  overview,
  row: { name, title, type, reference },
  value,
  onChange,
}: {
  overview: Overview;
  row: {
    readonly name: string;
    readonly title?: string | null;
    readonly type: string;
    readonly reference: string | null;
  };
  value: Supplied | undefined;
  onChange: (value: Supplied | null) => void;
}) {
  const id = useId();
  const choices =
    /^one of \((.*)\)$/
      .exec(type)?.[1]
      ?.split(/,\s*(?=")/)
      .map((each) => JSON.parse(each) as string) ??
    (type === 'boolean'
      ? ['true', 'false']
      : reference === 'people'
        ? overview.identities.map((each) => each.name)
        : []);
  const isNone = value?.none === true;
  return (
    <Box
      sx={{
        display: 'grid',
        gridTemplateColumns: '96px minmax(0, 1fr) auto',
        gap: 0.5,
        alignItems: 'center',
      }}
    >
      <Typography
        component="label"
        htmlFor={id}
        noWrap
        title={`${name}: ${type}`}
        sx={{ fontSize: '0.78rem' }}
      >
        {title ?? name}
      </Typography>
      <Box
        component="input"
        id={id}
        list={choices.length > 0 ? `${id}-list` : undefined}
        value={isNone ? '' : (value?.text ?? '')}
        placeholder={isNone ? 'no value' : type}
        onChange={(event: React.ChangeEvent<HTMLInputElement>) =>
          onChange(event.target.value === '' ? null : { text: event.target.value, none: false })
        }
        sx={{
          font: 'inherit',
          fontSize: '0.78rem',
          height: 26,
          px: 0.5,
          minWidth: 0,
          color: 'text.primary',
          bgcolor: 'background.paper',
          border: '1px solid',
          borderColor: 'text.secondary',
          borderRadius: 1,
          '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main' },
        }}
      />
      <Button
        size="small"
        aria-pressed={isNone}
        aria-label={`No value for ${title ?? name}`}
        variant={isNone ? 'contained' : 'text'}
        sx={{ py: 0, px: 0.5, minHeight: 24, fontSize: '0.72rem' }}
        onClick={() => onChange(isNone ? null : { text: '', none: true })}
      >
        none
      </Button>
      {choices.length > 0 && (
        <datalist id={`${id}-list`}>
          {choices.map((each) => (
            <option key={each} value={each} />
          ))}
        </datalist>
      )}
    </Box>
  );
}

/** What is typed, as JSON would have it. What is no number stays a text: the service says what it must be. */
function rawValue({ text, none, type }: Supplied & { type: string }): unknown {
  if (none) return null;
  if (type === 'integer') return /^-?\d+$/.test(text) ? Number(text) : text;
  if (type === 'boolean') return text === 'true' ? true : text === 'false' ? false : text;
  if (type === 'json' || type.startsWith('list of ')) {
    try {
      return JSON.parse(text) as unknown;
    } catch {
      return type === 'json' ? text : text.split(',').map((each) => each.trim());
    }
  }
  return text;
}
