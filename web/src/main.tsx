import '@fontsource-variable/figtree';
import { ChakraProvider } from '@chakra-ui/react';
import { QueryClientProvider } from '@tanstack/react-query';
import { lazy, StrictMode, Suspense } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter, Navigate, Route, Routes } from 'react-router';
import { client, type Me, useMe } from './api/client';
import { SignIn } from './pages/sign-in';
import { Broken } from './parts/broken';
import { startColorMode } from './parts/color-mode';
import { Frame } from './parts/frame';
import { Waiting } from './parts/sheet';
import { Toaster } from './parts/toaster';
import { system } from './theme';

// Each page comes when it is opened.
const Account = lazy(async () => ({ default: (await import('./pages/account')).Account }));
const Findings = lazy(async () => ({ default: (await import('./pages/findings')).Findings }));
const FolderPage = lazy(async () => ({ default: (await import('./pages/folder')).FolderPage }));
const Folders = lazy(async () => ({ default: (await import('./pages/folders')).Folders }));
const Groups = lazy(async () => ({ default: (await import('./pages/groups')).Groups }));
const Hosts = lazy(async () => ({ default: (await import('./pages/hosts')).Hosts }));
const Journal = lazy(async () => ({ default: (await import('./pages/journal')).Journal }));
const Limits = lazy(async () => ({ default: (await import('./pages/limits')).Limits }));
const Live = lazy(async () => ({ default: (await import('./pages/live')).Live }));
const MatrixPage = lazy(async () => ({ default: (await import('./pages/matrix')).MatrixPage }));
const NewFolderPage = lazy(async () => ({ default: (await import('./pages/new-folder')).NewFolderPage }));
const Notices = lazy(async () => ({ default: (await import('./pages/notices')).Notices }));
const Overview = lazy(async () => ({ default: (await import('./pages/overview')).Overview }));
const OwnFolder = lazy(async () => ({ default: (await import('./pages/own')).OwnFolder }));
const OwnGroup = lazy(async () => ({ default: (await import('./pages/own')).OwnGroup }));
const People = lazy(async () => ({ default: (await import('./pages/people')).People }));
const Person = lazy(async () => ({ default: (await import('./pages/person')).Person }));
const Publishing = lazy(async () => ({ default: (await import('./pages/publishing')).Publishing }));
const ReviewPage = lazy(async () => ({ default: (await import('./pages/reviews')).ReviewPage }));
const Reviews = lazy(async () => ({ default: (await import('./pages/reviews')).Reviews }));
const Settings = lazy(async () => ({ default: (await import('./pages/settings')).Settings }));
const Volumes = lazy(async () => ({ default: (await import('./pages/volumes')).Volumes }));
const Who = lazy(async () => ({ default: (await import('./pages/who')).Who }));
const Why = lazy(async () => ({ default: (await import('./pages/why')).Why }));

function Console() {
  const me = useMe();
  if (me.error) return <Waiting error={me.error} />;
  if (me.data === undefined) return null;
  if (me.data === null) return <SignIn />;
  return (
    <Frame>
      <Broken>
        <Suspense fallback={<Waiting error={null} />}>
          <Pages role={me.data.role} />
        </Suspense>
      </Broken>
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
      <Route path="/overview" element={<Overview />} />
      <Route path="/volumes" element={<Volumes />} />
      <Route path="/settings" element={<Settings />} />
      <Route path="/publishing" element={<Publishing />} />
      <Route path="/journal" element={<Journal />} />
      <Route path="/folders" element={<Folders />} />
      <Route path="/folders/new" element={<NewFolderPage />} />
      <Route path="/folders/:name" element={<FolderPage />} />
      <Route path="/hosts" element={<Hosts />} />
      <Route path="/limits" element={<Limits />} />
      <Route path="/live" element={<Live />} />
      <Route path="/people/:name" element={<Person />} />
      <Route path="/people" element={<People />} />
      <Route path="/groups" element={<Groups />} />
      <Route path="/groups/:name" element={<OwnGroup />} />
      <Route path="/notices" element={<Notices />} />
      <Route path="/why" element={<Why />} />
      <Route path="/who" element={<Who />} />
      <Route path="/matrix" element={<MatrixPage />} />
      <Route path="/findings" element={<Findings />} />
      <Route path="/reviews" element={<Reviews />} />
      <Route path="/reviews/:name" element={<ReviewPage />} />
      <Route path="*" element={<Navigate to="/overview" replace />} />
    </Routes>
  );
}

// The page that is asked for comes while it is found out who asks.
const first: [RegExp, () => Promise<unknown>][] = [
  [/^\/(overview)?$/, () => import('./pages/overview')],
  [/^\/folders$/, () => import('./pages/folders')],
  [/^\/folders\/new$/, () => import('./pages/new-folder')],
  [/^\/folders\/./, () => import('./pages/folder')],
  [/^\/people$/, () => import('./pages/people')],
  [/^\/people\/./, () => import('./pages/person')],
  [/^\/limits/, () => import('./pages/limits')],
  [/^\/groups$/, () => import('./pages/groups')],
  [/^\/why/, () => import('./pages/why')],
  [/^\/live/, () => import('./pages/live')],
  [/^\/matrix/, () => import('./pages/matrix')],
  [/^\/findings/, () => import('./pages/findings')],
  [/^\/journal/, () => import('./pages/journal')],
];
first
  .find(([path]) => path.test(location.pathname))?.[1]()
  .catch(() => {}); // where it does not come, that is said when it is drawn

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
