import Box from '@mui/material/Box';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import NativeSelect from '@mui/material/NativeSelect';
import TextField from '@mui/material/TextField';
import type { NewField } from '../../working/declare.ts';
import { quoted } from '../../../core/language/quoted.ts';

export const emptyField: NewField = {
  name: '',
  title: '',
  type: 'text',
  required: false,
  unique: false,
  sensitive: false,
  label: false,
};

const plain = [
  'text',
  'integer',
  'decimal',
  'boolean',
  'date',
  'timestamp',
  'uuid',
  'json',
  'list of text',
  'list of integer',
];

/** What is wrong with it; null: nothing. */
export function fieldFault({ name, type }: NewField, taken: readonly string[]): string | null {
  if (!/^[a-z][a-z0-9_]{0,62}$/.test(name))
    return 'a name has small letters, digits and _, and begins with a letter';
  if (taken.includes(name) || ['id', 'created_at', 'updated_at'].includes(name))
    return `there is a field ${name} already`;
  if (type === 'one of ()') return 'say what it is one of, with commas between';
  return null;
}

/** A field by its name, title, type and marks. */
export function FieldRow({
  field,
  collections,
  onChange,
}: {
  field: NewField;
  collections: readonly string[];
  onChange: (field: NewField) => void;
}) {
  const isChoice = field.type.startsWith('one of');
  const marks = ['required', 'unique', 'sensitive', 'label'] as const;
  return (
    <Box sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
      <TextField
        size="small"
        label="Field"
        value={field.name}
        onChange={(event) => onChange({ ...field, name: event.target.value })}
        slotProps={{ htmlInput: { spellCheck: false, maxLength: 63 } }}
        sx={{ width: 130 }}
      />
      <TextField
        size="small"
        label="Shown as"
        value={field.title}
        onChange={(event) => onChange({ ...field, title: event.target.value })}
        slotProps={{ htmlInput: { maxLength: 200 } }}
        sx={{ width: 130 }}
      />
      <NativeSelect
        value={isChoice ? 'one of' : field.type}
        inputProps={{ 'aria-label': 'Type' }}
        onChange={(event) =>
          onChange({ ...field, type: event.target.value === 'one of' ? 'one of ()' : event.target.value })
        }
        sx={{ fontSize: '0.85rem' }}
      >
        {plain.map((type) => (
          <option key={type}>{type}</option>
        ))}
        <option value="one of">one of …</option>
        {collections.map((name) => (
          <option key={name} value={`ref ${name}`}>
            ref {name}
          </option>
        ))}
      </NativeSelect>
      {isChoice && (
        <TextField
          size="small"
          label="One of, with commas between"
          defaultValue=""
          onChange={(event) => {
            const values = event.target.value
              .split(',')
              .map((each) => each.trim())
              .filter((each) => each !== '');
            onChange({ ...field, type: `one of (${values.map(quoted).join(', ')})` });
          }}
          sx={{ width: 230 }}
        />
      )}
      {marks.map((mark) => (
        <FormControlLabel
          key={mark}
          label={mark}
          slotProps={{ typography: { sx: { fontSize: '0.8rem' } } }}
          control={
            <Checkbox
              size="small"
              checked={field[mark]}
              onChange={(event) => onChange({ ...field, [mark]: event.target.checked })}
              sx={{ p: 0.5 }}
            />
          }
        />
      ))}
    </Box>
  );
}
