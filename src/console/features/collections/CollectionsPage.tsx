import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useMemo, useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { useSession } from '../../api/session.ts';
import { Copied } from '../../components/Copied.tsx';
import { DenseTable } from '../../components/DenseTable.tsx';
import { Page } from '../../components/Page.tsx';
import {
  collectionsOf,
  gridOf,
  identitiesOf,
  rolesOf,
  withField,
  type DeclaredCollection,
  type GridSentence,
} from '../../working/declare.ts';
import { WithWorking } from '../../working/WithWorking.tsx';
import { isChanged, working, type Working } from '../../working/working.ts';
import { FieldRow, emptyField, fieldFault } from './FieldForm.tsx';
import { NewCollectionDialog } from './NewCollectionDialog.tsx';
import { OwnersPanel } from './OwnersPanel.tsx';
import { RolesPanel } from './RolesPanel.tsx';

/** What fields there are, who owns records, and who may do what: of the draft that is being written, or of what is in force. */
export function CollectionsPage() {
  return <WithWorking>{(now) => <Collections now={now} />}</WithWorking>;
}

function Collections({ now }: { now: Working }) {
  const { collection: named } = useParams();
  const navigate = useNavigate();
  const session = useSession();
  const [isNew, setNew] = useState(false);
  const all = useMemo(() => collectionsOf(now.texts), [now.texts]);
  const roles = useMemo(() => rolesOf(now.texts), [now.texts]);
  const identities = useMemo(() => identitiesOf(now.texts), [now.texts]);
  const chosen =
    all.find(({ name }) => name === named) ?? all.find(({ name }) => name !== 'people') ?? all[0]!;
  const canWrite = session.data !== undefined && session.data.level !== 'viewer';
  return (
    <Page
      title="Collections"
      about={
        isChanged(now)
          ? 'As the draft has them. Nothing of it is in force before it is published.'
          : 'As they are in force. What is made here goes into a draft first.'
      }
    >
      <Box
        sx={{
          display: 'grid',
          gridTemplateColumns: 'minmax(220px, 300px) minmax(0, 1fr)',
          gap: 2,
          alignItems: 'start',
        }}
      >
        <Box sx={{ display: 'grid', gap: 1 }}>
          <Box component="nav" aria-label="Collections" sx={{ display: 'grid', gap: 0.25 }}>
            {all.map(({ name, title, fields }) => (
              <Box
                key={name}
                component={Link}
                to={`/collections/${name}`}
                aria-current={name === chosen.name ? 'page' : undefined}
                sx={{
                  display: 'block',
                  px: 1,
                  py: 0.5,
                  color: 'text.primary',
                  textDecoration: 'none',
                  borderLeft: '4px solid',
                  borderLeftColor: name === chosen.name ? 'secondary.main' : 'transparent',
                  bgcolor: name === chosen.name ? 'background.paper' : 'transparent',
                  '&:hover': { bgcolor: 'background.paper' },
                  '&:focus-visible': {
                    outline: '2px solid',
                    outlineColor: 'primary.main',
                    outlineOffset: -2,
                  },
                }}
              >
                <Typography component="span" sx={{ display: 'block', fontWeight: 600, fontSize: '0.85rem' }}>
                  {title ?? name}
                </Typography>
                <Typography component="span" sx={{ fontSize: '0.75rem', color: 'text.secondary' }}>
                  {name} · {fields.length} {fields.length === 1 ? 'field' : 'fields'} ·{' '}
                  {stateOf(gridOf(now.texts, name))}
                </Typography>
              </Box>
            ))}
          </Box>
          {canWrite && (
            <Button
              variant="outlined"
              size="small"
              onClick={() => setNew(true)}
              sx={{ justifySelf: 'start' }}
            >
              + Collection
            </Button>
          )}
          <RolesPanel roles={roles} identities={identities} canWrite={canWrite} />
        </Box>
        <Detail
          key={chosen.name}
          now={now}
          collection={chosen}
          collections={all.map(({ name }) => name)}
          canWrite={canWrite}
        />
      </Box>
      {isNew && (
        <NewCollectionDialog
          now={now}
          collections={all.map(({ name }) => name)}
          onClose={(made) => {
            setNew(false);
            if (made !== null) void navigate(`/collections/${made}`);
          }}
        />
      )}
    </Page>
  );
}

/** How open a collection is, by its sentences alone. */
export function stateOf(sentences: readonly GridSentence[]): string {
  const rules = sentences.filter(({ kind }) => kind === 'rule');
  if (rules.length === 0) return 'closed';
  if (rules.some(({ who }) => who.includes('everybody') || who.includes('visitors')))
    return 'open to visitors';
  return 'guarded';
}

function Detail({
  now,
  collection,
  collections,
  canWrite,
}: {
  now: Working;
  collection: DeclaredCollection;
  collections: readonly string[];
  canWrite: boolean;
}) {
  const [field, setField] = useState(emptyField);
  const { name, title, fields, owners, label } = collection;
  const fault =
    field.name === ''
      ? null
      : fieldFault(
          field,
          fields.map((each) => each.name),
        );
  return (
    <Box sx={{ display: 'grid', gap: 2, minWidth: 0 }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2 }}>
        <Typography variant="h1" component="h2">
          {title ?? name}
        </Typography>
        <Typography sx={{ color: 'text.secondary', fontSize: '0.85rem', flex: 1 }}>
          <code>{name}</code> · {owners.length === 0 ? 'owned by nobody' : `owned by ${owners.join(', ')}`}
          {label === null ? ' · no label' : ` · named by ${label}`}
        </Typography>
        <Button variant="contained" size="small" component={Link} to={`/bench/${name}`}>
          To the bench
        </Button>
      </Box>
      <Grid now={now} name={name} />
      <Box component="section" aria-label="Fields" sx={{ display: 'grid', gap: 0.5 }}>
        <Typography variant="h2">Fields</Typography>
        {fields.length === 0 ? (
          <Typography sx={{ color: 'text.secondary' }}>
            {name === 'people' ? 'None of the application’s own beside name and address.' : 'None yet.'}
          </Typography>
        ) : (
          <DenseTable label={`Fields of ${name}`} heads={['field', 'type', 'marks', 'begins with']}>
            {fields.map((each) => (
              <TableRow key={each.name}>
                <TableCell sx={{ fontWeight: 600 }}>
                  {each.title === null ? null : <>{each.title} · </>}
                  <Copied text={each.name} />
                </TableCell>
                <TableCell sx={{ '&&': { maxWidth: 420, whiteSpace: 'normal' } }}>{each.type}</TableCell>
                <TableCell>{each.marks.join(', ')}</TableCell>
                <TableCell>{each.default}</TableCell>
              </TableRow>
            ))}
          </DenseTable>
        )}
        {canWrite && (
          <Box
            component="form"
            aria-label="New field"
            onSubmit={(event: React.FormEvent) => {
              event.preventDefault();
              if (field.name === '' || fault !== null) return;
              working.change(withField(now.texts, name, field));
              setField(emptyField);
            }}
            sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}
          >
            <FieldRow field={field} collections={collections} onChange={setField} />
            <Button
              type="submit"
              size="small"
              variant="outlined"
              disabled={field.name === '' || fault !== null}
            >
              Add the field
            </Button>
            {fault !== null && (
              <Typography sx={{ color: 'error.main', fontSize: '0.8rem' }}>{fault}</Typography>
            )}
          </Box>
        )}
      </Box>
      {owners.length > 0 && name !== 'people' && !isChanged(now) && <OwnersPanel collection={name} />}
    </Box>
  );
}

/** Who may do what, by roles: each mark leads to its sentences. */
function Grid({ now, name }: { now: Working; name: string }) {
  const sentences = gridOf(now.texts, name);
  const rules = sentences.filter(({ kind }) => kind === 'rule');
  const fences = sentences.filter(({ kind }) => kind === 'fence');
  const usual = ['read', 'create', 'update', 'delete', 'share'];
  const operations = [
    ...usual,
    ...new Set(rules.flatMap((each) => each.operations).filter((each) => !usual.includes(each))),
  ];
  const who = [...new Set(rules.flatMap((each) => each.who))];
  return (
    <Box component="section" aria-label="Who may do what" sx={{ display: 'grid', gap: 0.5 }}>
      <Typography variant="h2">Who may do what</Typography>
      {rules.length === 0 ? (
        <Typography sx={{ color: 'text.secondary' }}>
          Closed: no sentence speaks of it, so nobody reads or changes anything. Go to the bench, and write
          who may.
        </Typography>
      ) : (
        <DenseTable label={`Who may do what with ${name}`} heads={['', ...operations]}>
          {who.map((each) => (
            <TableRow key={each}>
              <TableCell component="th" scope="row" sx={{ fontWeight: 600 }}>
                {each}
              </TableCell>
              {operations.map((operation) => {
                const own = rules.filter(
                  (rule) => rule.who.includes(each) && rule.operations.includes(operation),
                );
                return (
                  <TableCell key={operation}>
                    {own.length === 0 ? (
                      <Box component="span" sx={{ color: 'text.secondary' }}>
                        –
                      </Box>
                    ) : (
                      <Link
                        to={`/bench/${name}`}
                        title={own.map(({ text }) => text).join('\n')}
                        style={{ color: 'inherit' }}
                      >
                        {own.some(({ always }) => always)
                          ? 'always'
                          : own.length === 1
                            ? 'when …'
                            : `when … (${own.length})`}
                      </Link>
                    )}
                  </TableCell>
                );
              })}
            </TableRow>
          ))}
        </DenseTable>
      )}
      {fences.map(({ text }) => (
        <Typography
          key={text}
          sx={{ fontSize: '0.8rem', borderLeft: '4px solid', borderColor: 'error.main', pl: 1 }}
        >
          {text}
        </Typography>
      ))}
    </Box>
  );
}
