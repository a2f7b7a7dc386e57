import Alert from '@mui/material/Alert';
import AlertTitle from '@mui/material/AlertTitle';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { Component, type ReactNode } from 'react';

/**
 * A part of a page that cannot be shown says so, and the rest goes on. What is being written waits in the browser. `isQuiet`: nobody
 * misses it.
 */
export class Boundary extends Component<
  { readonly children: ReactNode; readonly isQuiet?: boolean },
  { readonly error: unknown }
> {
  override state: { readonly error: unknown } = { error: null };

  static getDerivedStateFromError(error: unknown) {
    return { error };
  }

  override render() {
    const { error } = this.state;
    if (error === null) return this.props.children;
    if (this.props.isQuiet === true) return null;
    // A page that is not there any more: the service was renewed since this one was opened.
    const isOld =
      error instanceof Error && /dynamically imported module|module script|preload/i.test(error.message);
    return (
      <Box component="main" sx={{ m: 4, maxWidth: 640 }}>
        <Alert
          severity="error"
          variant="outlined"
          action={
            <Button color="inherit" size="small" onClick={() => window.location.reload()}>
              Reload
            </Button>
          }
        >
          <AlertTitle>{isOld ? 'The console has been renewed' : 'This page cannot be shown'}</AlertTitle>
          {isOld
            ? 'Reload to go on with the new one. What you were writing is kept in this browser.'
            : `Reload to try again. What you were writing is kept in this browser. (${error instanceof Error ? error.message : 'unknown'})`}
        </Alert>
      </Box>
    );
  }
}
