import '@fontsource/ibm-plex-mono/latin-400.css';
import '@fontsource/ibm-plex-mono/latin-600.css';
import '@fontsource/ibm-plex-sans/latin-400.css';
import '@fontsource/ibm-plex-sans/latin-600.css';
import {QueryCache, QueryClient, QueryClientProvider} from '@tanstack/react-query';
import {StrictMode} from 'react';
import {createRoot} from 'react-dom/client';
import {BrowserRouter} from 'react-router';
import {ProblemError} from './api/client';
import {sessionQuery} from './features/session/queries';
import {App} from './App';
import {GlobalStyle} from './design/GlobalStyle';
import {applyTheme, savedTheme} from './shell/theme';

applyTheme(savedTheme());
const queries = new QueryClient({
  queryCache: new QueryCache({
    onError: (error, query) => {
      // A session that ended elsewhere, or ran out: ask who is here, which leads to signing in.
      if (error instanceof ProblemError && error.problem.status === 401 && query.queryKey[0] !== 'session') {
        void queries.invalidateQueries({queryKey: sessionQuery.queryKey});
      }
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 15_000,
      // What the service refused will be refused again; only silence and 5xx are worth another try.
      retry: (failures, error) => failures < 2 && !(error instanceof ProblemError && error.problem.status < 500),
    },
  },
});

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <GlobalStyle />
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
