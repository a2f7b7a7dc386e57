import '@fontsource-variable/inter/wght.css';
import createCache from '@emotion/cache';
import { CacheProvider } from '@emotion/react';
import CssBaseline from '@mui/material/CssBaseline';
import { ThemeProvider } from '@mui/material/styles';
import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router';
import { GateUnreachable } from '../client/errors.ts';
import { isSignedOut } from './api/client.ts';
import { App } from './App.tsx';
import { nonce } from './nonce.ts';
import { theme } from './theme.ts';

const cache = createCache({ key: 'fg', nonce, prepend: true });

/** Milliseconds after which a service that did not answer is asked again. */
const AGAIN = 3_000;

// What is on screen must be what is in force: nothing is taken from memory when the window is looked at again.
const queries: QueryClient = new QueryClient({
  // A session that has ended is told by whatever is asked first: then the page asks who is signed in.
  queryCache: new QueryCache({
    onError: (error, { queryKey }) => {
      // Where nobody is signed in already, whoever is about to be keeps what they have typed.
      const isOver = isSignedOut(error) && queryKey[0] !== 'session';
      if (isOver && queries.getQueryData(['session']) !== undefined)
        void queries.invalidateQueries({ queryKey: ['session'] });
    },
  }),
  defaultOptions: {
    queries: {
      retry: false,
      staleTime: 0,
      refetchOnWindowFocus: true,
      // Asked whatever the browser thinks of the network: the service may be on this machine.
      networkMode: 'always',
      refetchOnReconnect: true,
      refetchInterval: ({ state }) => (state.error instanceof GateUnreachable ? AGAIN : false),
    },
    mutations: { networkMode: 'always' },
  },
});

createRoot(document.querySelector('#root')!).render(
  <StrictMode>
    <CacheProvider value={cache}>
      <ThemeProvider theme={theme} defaultMode="system" noSsr>
        <CssBaseline />
        <QueryClientProvider client={queries}>
          {/* Links are followed at once. In a transition the page before would stay for a moment, and a choice made on it would lead back there. */}
          <BrowserRouter basename="/console" useTransitions={false}>
            <App />
          </BrowserRouter>
        </QueryClientProvider>
      </ThemeProvider>
    </CacheProvider>
  </StrictMode>,
);
