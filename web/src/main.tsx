import '@fontsource-variable/figtree';
import { ChakraProvider } from '@chakra-ui/react';
import { QueryClientProvider } from '@tanstack/react-query';
import { lazy, StrictMode, Suspense } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter, Navigate, Route, Routes } from 'react-router';
import { client, type Me, useMe } from './api/client';
import { Findings } from './pages/findings';
import { FolderPage } from './pages/folder';
import { Folders } from './pages/folders';
import { Hosts } from './pages/hosts';
import { MatrixPage } from './pages/matrix';
import { Notices } from './pages/notices';
import { People } from './pages/people';
import { ReviewPage, Reviews } from './pages/reviews';
import { SignIn } from './pages/sign-in';
import { Who } from './pages/who';
import { Why } from './pages/why';
import { startColorMode } from './parts/color-mode';
import { Frame } from './parts/frame';
import { Waiting } from './parts/sheet';
import { Toaster } from './parts/toaster';
import { system } from './theme';

// With its charts, which are large.
const Limits = lazy(async () => ({ default: (await import('./pages/limits')).Limits }));

const Account = lazy(async () => ({ default: (await import('./pages/account')).Account }));
const OwnFolder = lazy(async () => ({ default: (await import('./pages/own')).OwnFolder }));
const OwnGroup = lazy(async () => ({ default: (await import('./pages/own')).OwnGroup }));
const Groups = lazy(async () => ({ default: (await import('./pages/groups')).Groups }));
const Person = lazy(async () => ({ default: (await import('./pages/person')).Person }));

function Console() {
  const me = useMe();
  if (me.error) return <Waiting error={me.error} />;
  if (me.data === undefined) return null;
  if (me.data === null) return <SignIn />;
  return (
    <Frame>
      <Suspense fallback={<Waiting error={null} />}>
        <Pages role={me.data.role} />
      </Suspense>
    </Frame>
  );
}

function Pages({ role }: { role: Me['role'] }) {
  if (role === 'user')
    return (
      <Routes>
        <Route path="/account" element={<Account />} />
        <Route path="/own/folders/:name" element={<OwnFolder />} />
        <Route path="/own/groups/:name" element={<OwnGroup />} />
        <Route path="/why" element={<Why />} />
        <Route path="*" element={<Navigate to="/account" replace />} />
      </Routes>
    );
  return (
    <Routes>
      <Route path="/account" element={<Account />} />
      <Route path="/own/folders/:name" element={<OwnFolder />} />
      <Route path="/own/groups/:name" element={<OwnGroup />} />
      <Route path="/folders" element={<Folders />} />
      <Route path="/folders/:name" element={<FolderPage />} />
      <Route path="/hosts" element={<Hosts />} />
      <Route path="/limits" element={<Limits />} />
      <Route path="/people/:name" element={<Person />} />
      <Route path="/people" element={<People />} />
      <Route path="/groups" element={<Groups />} />
      <Route path="/notices" element={<Notices />} />
      <Route path="/why" element={<Why />} />
      <Route path="/who" element={<Who />} />
      <Route path="/matrix" element={<MatrixPage />} />
      <Route path="/findings" element={<Findings />} />
      <Route path="/reviews" element={<Reviews />} />
      <Route path="/reviews/:name" element={<ReviewPage />} />
      <Route path="*" element={<Navigate to="/folders" replace />} />
    </Routes>
  );
}

startColorMode();
const root = document.getElementById('root');
if (root)
  createRoot(root).render(
    <StrictMode>
      <ChakraProvider value={system}>
        <QueryClientProvider client={client}>
          <BrowserRouter>
            <Console />
          </BrowserRouter>
          <Toaster />
        </QueryClientProvider>
      </ChakraProvider>
    </StrictMode>,
  );
