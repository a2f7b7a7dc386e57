import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import NativeSelect from '@mui/material/NativeSelect';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { gate } from '../../api/client.ts';
import { Code } from '../../code/Code.tsx';
import { ErrorNote } from '../../components/ErrorNote.tsx';
import { working } from '../../working/working.ts';

/** A ready piece of rulebook for this collection, with its trial: looked at first, then put into the draft as a text of its own. */
export function PatternDialog({
  open,
  collection,
  onClose,
}: {
  open: boolean;
  collection: string;
  onClose: (notes: readonly string[]) => void;
}) {
  const [name, setName] = useState('');
  const [said, setSaid] = useState<Readonly<Record<string, string>>>({});
  const patterns = useQuery({
    queryKey: ['patterns'],
    queryFn: () => gate.patterns(),
    enabled: open,
    staleTime: Infinity,
  });
  const pattern = patterns.data?.find((each) => each.name === name) ?? patterns.data?.[0];
  const write = useMutation({
    mutationFn: () => {
      const files = working.current()!.texts.map(({ name: file, text }) => ({ name: file, text }));
      const parameters = Object.fromEntries(Object.entries(said).filter(([, value]) => value !== ''));
      return gate.writePattern(pattern!.name, { files, collection, parameters });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (write.data === undefined) {
      write.mutate();
      return;
    }
    const { file, text, notes } = write.data;
    working.change([...working.current()!.texts, { name: file, text }]);
    write.reset();
    onClose(notes);
  };
  return (
    <Dialog open={open} onClose={() => onClose([])} fullWidth maxWidth="sm" aria-labelledby="pattern-title">
      <Box component="form" onSubmit={submit}>
        <DialogTitle id="pattern-title">A pattern for {collection}</DialogTitle>
        <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
          {patterns.isError && <ErrorNote error={patterns.error} />}
          {pattern !== undefined && (
            <NativeSelect
              value={pattern.name}
              inputProps={{ 'aria-label': 'Pattern' }}
              onChange={(event) => {
                setName(event.target.value);
                setSaid({});
                write.reset();
              }}
            >
              {patterns.data?.map((each) => (
                <option key={each.name} value={each.name}>
                  {each.title}
                </option>
              ))}
            </NativeSelect>
          )}
          {pattern?.parameters.map((parameter) => (
            <TextField
              key={parameter.name}
              size="small"
              label={parameter.name}
              helperText={`${parameter.about} (${parameter.is}); usually ${parameter.usual}`}
              value={said[parameter.name] ?? ''}
              onChange={(event) => {
                setSaid({ ...said, [parameter.name]: event.target.value });
                write.reset();
              }}
            />
          ))}
          {write.isError && <ErrorNote error={write.error} />}
          {write.data !== undefined && (
            <Box
              sx={{ maxHeight: 260, overflow: 'auto', border: 1, borderColor: 'divider', p: 1 }}
              tabIndex={0}
              role="region"
              aria-label="What is written"
            >
              <Code text={write.data.text} />
            </Box>
          )}
          {write.data?.notes.map((each) => (
            <Typography key={each} sx={{ fontSize: '0.8rem', color: 'text.secondary' }}>
              {each}
            </Typography>
          ))}
        </DialogContent>
        <DialogActions>
          <Button onClick={() => onClose([])}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={write.isPending || pattern === undefined}>
            {write.data === undefined ? 'Show what is written' : 'Put it into the draft'}
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  );
}
