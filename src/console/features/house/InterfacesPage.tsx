import Box from '@mui/material/Box';
import Chip from '@mui/material/Chip';
import Link from '@mui/material/Link';
import Skeleton from '@mui/material/Skeleton';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Link as To, useParams } from 'react-router';
import { gate } from '../../api/client.ts';
import { DenseTable } from '../../components/DenseTable.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { Page } from '../../components/Page.tsx';
import { readDescription, shapeText, type Described, type Description } from './description.ts';

const kinds = {
  service: {
    title: 'The service',
    about:
      'Everything that this service answers, whatever the rules: for callers, for staff and for provisioning.',
    source: '/v1/openapi.json',
    ask: () => gate.serviceOpenApi(),
  },
  collections: {
    title: 'Collections in force',
    about:
      'What front ends ask: the collections, fields and actions of the rules in force, by their own names.',
    source: '/v1/desk/openapi.json',
    ask: () => gate.openApi(),
  },
} as const;

type Kind = keyof typeof kinds;

/** The interfaces of the service, from its own description of them: operations, what they take and answer, and all shapes. */
export function InterfacesPage() {
  const { kind: asked } = useParams();
  const kind: Kind = asked === 'collections' ? 'collections' : 'service';
  const { about, source, ask } = kinds[kind];
  const [wanted, setWanted] = useState('');
  const document = useQuery({
    queryKey: ['interfaces', kind],
    queryFn: async () => readDescription(await ask()),
  });
  return (
    <Page title="Interfaces" about={about}>
      <Box component="nav" aria-label="Descriptions" sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
        {(Object.keys(kinds) as Kind[]).map((each) => (
          <Link
            key={each}
            component={To}
            to={`/house/interfaces/${each}`}
            aria-current={each === kind ? 'page' : undefined}
            sx={{ fontWeight: each === kind ? 650 : 400 }}
          >
            {kinds[each].title}
          </Link>
        ))}
        <Link href={source} target="_blank" rel="noreferrer" sx={{ fontSize: '0.85rem' }}>
          this as OpenAPI 3.1
        </Link>
        {kind === 'collections' && (
          <Link href="/v1/desk/types" target="_blank" rel="noreferrer" sx={{ fontSize: '0.85rem' }}>
            this as TypeScript
          </Link>
        )}
        <Box sx={{ flex: 1 }} />
        <TextField
          size="small"
          label="Find"
          value={wanted}
          onChange={(event) => setWanted(event.target.value)}
          sx={{ width: 280 }}
        />
      </Box>
      {document.isError && <ErrorNote error={document.error} retry={() => void document.refetch()} />}
      {document.isPending && <Skeleton variant="rectangular" height={420} aria-label="Loading" />}
      {document.data !== undefined && (
        <Told description={document.data} wanted={wanted.trim().toLowerCase()} />
      )}
    </Page>
  );
}

function Told({ description, wanted }: { description: Description; wanted: string }) {
  const isWanted = (text: string) => wanted.split(/\s+/).every((word) => text.toLowerCase().includes(word));
  const groups = description.groups
    .map((group) => ({
      ...group,
      operations: group.operations.filter(({ method, path, summary, id }) =>
        isWanted(`${group.name} ${method} ${path} ${summary} ${id}`),
      ),
    }))
    .filter(({ operations }) => operations.length > 0);
  const shapes = [...description.shapes].filter(([name]) => isWanted(`shape ${name}`));
  const found = groups.reduce((sum, { operations }) => sum + operations.length, 0);
  return (
    <>
      <Typography role="status" sx={{ color: 'text.secondary', fontSize: '0.85rem' }}>
        {found === 0 && shapes.length === 0
          ? 'Nothing goes by these words. Try a part of a path, or a verb such as “publish”.'
          : `${found} ${found === 1 ? 'operation' : 'operations'}, ${shapes.length} ${shapes.length === 1 ? 'shape' : 'shapes'}`}
      </Typography>
      {groups.map(({ name, about, operations }) => (
        <Box component="section" key={name} aria-label={name} sx={{ display: 'grid', gap: 0.25 }}>
          <Typography variant="h2">{name}</Typography>
          {about !== '' && about !== name && (
            <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem' }}>{about}</Typography>
          )}
          {operations.map((each) => (
            <Folded key={each.id} head={<Head operation={each} />}>
              <Operation operation={each} shapes={description.shapes} />
            </Folded>
          ))}
        </Box>
      ))}
      {shapes.length > 0 && (
        <Box component="section" aria-label="Shapes" sx={{ display: 'grid', gap: 0.25 }}>
          <Typography variant="h2">Shapes</Typography>
          {shapes.map(([name, shape]) => (
            <Folded key={name} head={<code>{name}</code>}>
              <Code text={shapeText(shape)} />
            </Folded>
          ))}
        </Box>
      )}
    </>
  );
}

/** What is below is made when it is opened: there are hundreds. */
function Folded({ head, children }: { head: ReactNode; children: ReactNode }) {
  const [isOpen, setOpen] = useState(false);
  return (
    <Box
      component="details"
      onToggle={(event) => setOpen((event.target as HTMLDetailsElement).open)}
      sx={{ borderBottom: 1, borderColor: 'divider', '& summary': { cursor: 'pointer', py: 0.5 } }}
    >
      <summary>{head}</summary>
      {isOpen && <Box sx={{ pl: 2.5, pb: 1.5, display: 'grid', gap: 1 }}>{children}</Box>}
    </Box>
  );
}

function Head({ operation: { method, path, summary } }: { operation: Described }) {
  return (
    <Box component="span" sx={{ display: 'inline-flex', gap: 1.5, alignItems: 'baseline', flexWrap: 'wrap' }}>
      <Box component="code" sx={{ width: '4.2rem', fontWeight: 650 }}>
        {method}
      </Box>
      <Box component="code" sx={{ minWidth: '26rem', wordBreak: 'break-all' }}>
        {path}
      </Box>
      <span>{summary}</span>
    </Box>
  );
}

function Operation({ operation, shapes }: { operation: Described; shapes: Description['shapes'] }) {
  const { callers, parameters, body, answers } = operation;
  // The shapes that it names are shown with it, and those that these name.
  const named = new Set<string>();
  const add = (text: string) => {
    for (const [name] of text.matchAll(/\b[A-Z]\w*/g)) {
      if (named.has(name) || !shapes.has(name)) continue;
      named.add(name);
      add(shapeText(shapes.get(name)!));
    }
  };
  for (const text of [body?.shape ?? '', ...answers.map(({ shape }) => shape)]) add(text);
  return (
    <>
      <Box>
        <Chip
          size="small"
          variant="outlined"
          label={callers === 'anybody' ? 'with or without a token' : 'with a token'}
        />
      </Box>
      {parameters.length > 0 && (
        <DenseTable label="Parameters" heads={['parameter', 'in', 'shape', 'what it says']}>
          {parameters.map(({ name, place, required, shape, about }) => (
            <TableRow key={`${place} ${name}`}>
              <TableCell>
                <code>{name}</code>
                {required && ' (required)'}
              </TableCell>
              <TableCell>{place}</TableCell>
              <TableCell>
                <code>{shape}</code>
              </TableCell>
              <TableCell sx={{ '&&': { whiteSpace: 'normal', maxWidth: 560 } }}>{about}</TableCell>
            </TableRow>
          ))}
        </DenseTable>
      )}
      {body !== null && (
        <Box>
          <Typography sx={{ fontSize: '0.85rem' }}>
            Body{body.required ? '' : ', which may be left out'}: {body.types.join(' or ')}
          </Typography>
          <Code text={body.shape} />
        </Box>
      )}
      <DenseTable label="Answers" heads={['status', 'shape', 'when']}>
        {answers.map(({ status, shape, about }) => (
          <TableRow key={status}>
            <TableCell>{status}</TableCell>
            <TableCell>
              <Box component="code" sx={{ whiteSpace: 'pre-wrap' }}>
                {shape}
              </Box>
            </TableCell>
            <TableCell sx={{ '&&': { whiteSpace: 'normal', maxWidth: 640 } }}>{about}</TableCell>
          </TableRow>
        ))}
      </DenseTable>
      {[...named].map((name) => (
        <Box key={name}>
          <Typography sx={{ fontSize: '0.85rem' }}>
            <code>{name}</code>
          </Typography>
          <Code text={shapeText(shapes.get(name)!)} />
        </Box>
      ))}
    </>
  );
}

/** A text of its own lines. It can be scrolled, so it can be reached by the keyboard. */
function Code({ text }: { text: string }) {
  return (
    <Box
      component="pre"
      tabIndex={0}
      sx={{
        m: 0,
        p: 1,
        fontSize: '0.82rem',
        overflow: 'auto',
        maxHeight: 360,
        bgcolor: 'action.hover',
        borderRadius: 1,
      }}
    >
      {text}
    </Box>
  );
}
