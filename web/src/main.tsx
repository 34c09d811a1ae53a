import '@fontsource/b612/400.css';
import '@fontsource/b612/700.css';
import '@fontsource/ibm-plex-mono/400.css';
import { QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router';
import { ServerError } from './api/client';
import { App } from './app';
import { FreshClient } from './queries/fresh-client';

const client = new FreshClient({
  defaultOptions: {
    queries: { retry: (count, error) => !(error instanceof ServerError && error.status > 0) && count < 3, staleTime: 2000 },
  },
});

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
