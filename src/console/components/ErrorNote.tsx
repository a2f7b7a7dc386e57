import Alert from '@mui/material/Alert';
import AlertTitle from '@mui/material/AlertTitle';
import Button from '@mui/material/Button';
import { describeError } from '../api/client.ts';

/** An error where the content would have been, with a way to try again. */
export function ErrorNote({ error, retry }: { error: unknown; retry?: () => void }) {
  const { title, detail } = describeError(error);
  return (
    <Alert
      severity="error"
      variant="outlined"
      action={
        retry === undefined ? undefined : (
          <Button color="inherit" size="small" onClick={retry}>
            Try again
          </Button>
        )
      }
    >
      <AlertTitle>{title}</AlertTitle>
      {detail}
    </Alert>
  );
}
