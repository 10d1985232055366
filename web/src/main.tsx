import '@fontsource-variable/figtree';
import { ChakraProvider } from '@chakra-ui/react';
import { QueryClientProvider } from '@tanstack/react-query';
import { type ComponentType, createElement, lazy, StrictMode, Suspense } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter, Navigate, Route, Routes } from 'react-router';
import { client, type Me, useMe, who } from './api/client';
import { SignIn } from './pages/sign-in';
import { Broken } from './parts/broken';
import { startColorMode } from './parts/color-mode';
import { Frame } from './parts/frame';
import { Waiting } from './parts/sheet';
import { Toaster } from './parts/toaster';
import { system } from './theme';

/**
 * A page that comes when it is opened. Where it is there already it is drawn at once: what is waited for is shown by React no sooner than a third of a second
 * after it has shown that it is waited for.
 */
function page<M, K extends keyof M>(load: () => Promise<M>, name: K) {
  let there: ComponentType | undefined;
  const come = () =>
    load().then((all) => {
      there = all[name] as ComponentType;
      return { default: there };
    });
  const Comes = lazy(come);
  const Page = () => (there ? createElement(there) : <Comes />);
  Page.come = come;
  return Page;
}

// Each page comes when it is opened.
const Account = page(() => import('./pages/account'), 'Account');
const Findings = page(() => import('./pages/findings'), 'Findings');
const FolderPage = page(() => import('./pages/folder'), 'FolderPage');
const Folders = page(() => import('./pages/folders'), 'Folders');
const Groups = page(() => import('./pages/groups'), 'Groups');
const Hosts = page(() => import('./pages/hosts'), 'Hosts');
const Journal = page(() => import('./pages/journal'), 'Journal');
const Limits = page(() => import('./pages/limits'), 'Limits');
const Live = page(() => import('./pages/live'), 'Live');
const MatrixPage = page(() => import('./pages/matrix'), 'MatrixPage');
const NewFolderPage = page(() => import('./pages/new-folder'), 'NewFolderPage');
const Notices = page(() => import('./pages/notices'), 'Notices');
const Overview = page(() => import('./pages/overview'), 'Overview');
const OwnFolder = page(() => import('./pages/own'), 'OwnFolder');
const OwnGroup = page(() => import('./pages/own'), 'OwnGroup');
const People = page(() => import('./pages/people'), 'People');
const Person = page(() => import('./pages/person'), 'Person');
const Publishing = page(() => import('./pages/publishing'), 'Publishing');
const ReviewPage = page(() => import('./pages/reviews'), 'ReviewPage');
const Reviews = page(() => import('./pages/reviews'), 'Reviews');
const ServicePage = page(() => import('./pages/service'), 'ServicePage');
const Settings = page(() => import('./pages/settings'), 'Settings');
const Volumes = page(() => import('./pages/volumes'), 'Volumes');
const Who = page(() => import('./pages/who'), 'Who');
const Why = page(() => import('./pages/why'), 'Why');

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
      <Route path="/service" element={<ServicePage />} />
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

// The page that is asked for comes while it is found out who asks, and is waited for a moment.
const first: [RegExp, { come: () => Promise<unknown> }][] = [
  [/^\/(overview)?$/, Overview],
  [/^\/folders$/, Folders],
  [/^\/folders\/new$/, NewFolderPage],
  [/^\/folders\/./, FolderPage],
  [/^\/volumes/, Volumes],
  [/^\/publishing/, Publishing],
  [/^\/hosts/, Hosts],
  [/^\/people$/, People],
  [/^\/people\/./, Person],
  [/^\/limits/, Limits],
  [/^\/groups$/, Groups],
  [/^\/groups\/./, OwnGroup],
  [/^\/live/, Live],
  [/^\/notices/, Notices],
  [/^\/why/, Why],
  [/^\/who/, Who],
  [/^\/matrix/, MatrixPage],
  [/^\/findings/, Findings],
  [/^\/reviews$/, Reviews],
  [/^\/reviews\/./, ReviewPage],
  [/^\/journal/, Journal],
  [/^\/settings/, Settings],
  [/^\/service/, ServicePage],
  [/^\/account/, Account],
];
const coming = first
  .find(([path]) => path.test(location.pathname))?.[1]
  .come()
  .catch(() => {}); // where it does not come, that is said when it is drawn
const asking = client.prefetchQuery(who);
await Promise.race([Promise.all([coming, asking]), new Promise((go) => setTimeout(go, 300))]);

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
