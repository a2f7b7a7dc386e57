import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import NativeSelect from '@mui/material/NativeSelect';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useState, type FormEvent } from 'react';
import { Code } from '../../code/Code.tsx';
import { withCollection, type NewField } from '../../working/declare.ts';
import { working, type Working } from '../../working/working.ts';
import { FieldRow, emptyField, fieldFault } from './FieldForm.tsx';

const begun: readonly NewField[] = [
  { ...emptyField, name: 'name', required: true, label: true },
  { ...emptyField, name: 'owner', type: 'ref people' },
];

/** A collection by its fields and its owner; what is written is shown while it is. */
export function NewCollectionDialog({
  now,
  collections,
  onClose,
}: {
  now: Working;
  collections: readonly string[];
  onClose: (made: string | null) => void;
}) {
  const [name, setName] = useState('');
  const [title, setTitle] = useState('');
  const [fields, setFields] = useState(begun);
  const [owner, setOwner] = useState('owner');
  const people = fields.filter(({ type }) => type === 'ref people').map((field) => field.name);
  const owned = people.includes(owner) ? owner : (people[0] ?? '');
  const faults = [
    ...(name !== '' && !/^[a-z][a-z0-9_]{0,62}$/.test(name)
      ? ['the collection: small letters, digits and _, beginning with a letter']
      : []),
    ...(collections.includes(name) ? [`there is a collection ${name} already`] : []),
    ...fields.flatMap((field, index) => {
      const others = fields.filter((_, at) => at !== index).map((each) => each.name);
      const fault = fieldFault(field, others);
      return fault === null ? [] : [`${field.name === '' ? `field ${index + 1}` : field.name}: ${fault}`];
    }),
    ...(fields.filter(({ label }) => label).length > 1 ? ['one field at most is the label'] : []),
  ];
  const made =
    name === '' || faults.length > 0
      ? null
      : withCollection(now.texts, { name, title, fields, owner: owned });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (made === null) return;
    working.change(made);
    onClose(name);
  };
  return (
    <Dialog open onClose={() => onClose(null)} fullWidth maxWidth="md" aria-labelledby="collection-title">
      <Box component="form" onSubmit={submit}>
        <DialogTitle id="collection-title">A new collection</DialogTitle>
        <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
          <Box sx={{ display: 'flex', gap: 1, pt: 1 }}>
            <TextField
              size="small"
              label="Name"
              required
              autoFocus
              value={name}
              helperText="As programs call it, such as “hives”."
              slotProps={{ htmlInput: { spellCheck: false, maxLength: 63 } }}
              onChange={(event) => setName(event.target.value)}
            />
            <TextField
              size="small"
              label="Title"
              value={title}
              helperText="As people call it."
              onChange={(event) => setTitle(event.target.value)}
              sx={{ flex: 1 }}
            />
          </Box>
          {fields.map((field, index) => (
            <Box
              key={index}
              role="group"
              aria-label={`Field ${index + 1}`}
              sx={{ display: 'flex', gap: 1, alignItems: 'center' }}
            >
              <FieldRow
                field={field}
                collections={[...collections, ...(name === '' ? [] : [name])]}
                onChange={(next) => setFields(fields.with(index, next))}
              />
              <Button
                size="small"
                aria-label={`Without field ${index + 1}`}
                onClick={() => setFields(fields.filter((_, at) => at !== index))}
              >
                ×
              </Button>
            </Box>
          ))}
          <Button
            size="small"
            sx={{ justifySelf: 'start' }}
            onClick={() => setFields([...fields, emptyField])}
          >
            + Field
          </Button>
          <Box sx={{ display: 'flex', gap: 1, alignItems: 'center' }}>
            <Typography component="label" htmlFor="owned-by">
              Owned by
            </Typography>
            <NativeSelect
              id="owned-by"
              value={owned}
              onChange={(event) => setOwner(event.target.value)}
              inputProps={{ id: 'owned-by' }}
            >
              {people.map((each) => (
                <option key={each}>{each}</option>
              ))}
              <option value="">nobody</option>
            </NativeSelect>
            {people.length === 0 && (
              <Typography sx={{ fontSize: '0.8rem', color: 'text.secondary' }}>
                A field of the type “ref people” says whose a record is.
              </Typography>
            )}
          </Box>
          {faults.length > 0 && name !== '' && (
            <Typography role="alert" sx={{ color: 'error.main', fontSize: '0.82rem' }}>
              {faults.join('; ')}
            </Typography>
          )}
          {made !== null && (
            <Box
              sx={{ border: 1, borderColor: 'divider', borderRadius: 1, p: 1 }}
              role="region"
              aria-label="What is written"
            >
              <Code text={made.at(-1)!.text} />
            </Box>
          )}
        </DialogContent>
        <DialogActions>
          <Button onClick={() => onClose(null)}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={made === null}>
            Put it into the draft
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  );
}
