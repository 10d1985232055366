import { Box, Field, Flex, HStack, Stack, Tabs, Text } from '@chakra-ui/react';
import { plural, t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link, useParams, useSearchParams } from 'react-router';
import { change } from '../api/change';
import {
  type Change,
  type Finding,
  type Folder,
  fileAt,
  type Place,
  useArrangements,
  useConnect,
  useFindings,
  useFolder,
  useMe,
  useUses,
} from '../api/client';
import { useSessions } from '../api/live';
import { Away } from '../parts/away';
import { Browse } from '../parts/browse';
import { Previewed } from '../parts/effect';
import { AnotherPath, PlaceSheet } from '../parts/entries';
import { FolderFacts, FolderSettings, ModeSheet } from '../parts/folder-settings';
import { Holders } from '../parts/holders';
import { JournalRows } from '../parts/journal-rows';
import { AlterLabels } from '../parts/labels';
import { Largest } from '../parts/largest';
import { Pick } from '../parts/pick';
import { PickerField } from '../parts/picker';
import { Shares } from '../parts/shares';
import { Fact, MainButton, PageHead, Part, QuietButton, Sheet, Waiting } from '../parts/sheet';
import { branchesOf, Tree } from '../parts/tree';
import { LiveTry } from '../parts/trying';
import { InUse, UseBar } from '../parts/use';
import { Ways } from '../parts/ways';
import { WaysIn } from '../parts/ways-in';
import { listed } from '../parts/words';
import { Exports } from './exports';

/** One folder: what it is, where it is published, who may do what in it and why, what it holds and what became of it. */
export function FolderPage() {
  const { name = '' } = useParams();
  const folder = useFolder(name);
  const me = useMe();
  const [params, setParams] = useSearchParams();
  const findings = useFindings(false, (params.get('tab') ?? 'access') === 'access');
  const tab = params.get('tab') ?? 'access';
  const mayChange = me.data?.role === 'administrator';
  if (!folder.data) return <Waiting error={folder.error} />;
  const f = folder.data;
  const published = f.shares.length + f.exports.length > 0;
  const here = (findings.data ?? []).filter((one) => isAbout(one, f.name));
  return (
    <>
      <Link to="/folders">
        <Text color="faint" fontSize="sm" mb="2">
          <Trans>← Folders</Trans>
        </Text>
      </Link>
      <PageHead title={f.name} text={f.description}>
        <HStack>
          <a href={fileAt(`/api/v1/reports/folder?of=${encodeURIComponent(f.name)}`)}>
            <QuietButton as="span">
              <Trans>For paper</Trans>
            </QuietButton>
          </a>
          <Link to={`/why?path=${encodeURIComponent(f.name)}`}>
            <QuietButton as="span">
              <Trans>Ask why</Trans>
            </QuietButton>
          </Link>
        </HStack>
      </PageHead>
      {f.away && <Away why={f.away} volume={f.volume} />}
      <Flex gap="6" mb="6" wrap="wrap">
        <FolderFacts folder={f} />
        <Fact name={t`Published as`}>
          <Ways folder={f} />
        </Fact>
        <FolderUse name={f.name} />
        <Connected folder={f.name} />
        <Fact name={t`Labels`}>
          <AlterLabels
            labels={f.labels}
            list="/folders"
            mayChange={mayChange}
            change={(labels) => change('folder', 'change', { of: { name: f.name }, with: { labels } })}
          />
        </Fact>
        {here.length > 0 && (
          <Fact name={t`Needs a hand`}>
            {here.slice(0, 3).map((one) => (
              <Link key={one.key} to={`/findings#${encodeURIComponent(one.key)}`}>
                <Text color="shut" textDecoration="underline">
                  {one.kind}
                </Text>
              </Link>
            ))}
            {here.length > 3 && (
              <Link to="/findings">
                <Trans>and {here.length - 3} more</Trans>
              </Link>
            )}
          </Fact>
        )}
      </Flex>
      <Tabs.Root
        value={tab}
        onValueChange={(e) => setParams(e.value === 'access' ? {} : { tab: e.value }, { replace: true })}
        lazyMount
        unmountOnExit
        css={{ '--indicator-color': 'colors.accent' }}
      >
        <Tabs.List borderColor="line" mb="5" overflowX="auto" overflowY="hidden">
          <Tabs.Trigger value="access">
            <Trans>Who may do what</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="everybody">
            <Trans>Who gets in</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="browse">
            <Trans>Browse</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="shares">
            <Trans>Shares</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="exports">
            <Trans>Exports</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="open">
            <Trans>How to open it</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="room">
            <Trans>Room</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="history">
            <Trans>History</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="settings">
            <Trans>Settings</Trans>
          </Tabs.Trigger>
        </Tabs.List>
        <Tabs.Content value="access" p="0">
          {f.permissions === 'unix' ? (
            <ModeSheet path={f.name} mayChange={mayChange} />
          ) : (
            <Places folder={f} mayChange={mayChange} findings={here} />
          )}
        </Tabs.Content>
        <Tabs.Content value="everybody" p="0">
          <Holders path={f.name} />
        </Tabs.Content>
        <Tabs.Content value="browse" p="0">
          <Browse folder={f.name} mayChange={mayChange} />
        </Tabs.Content>
        <Tabs.Content value="shares" p="0">
          <Shares folder={f.name} mayChange={mayChange} />
        </Tabs.Content>
        <Tabs.Content value="exports" p="0">
          <Exports folder={f.name} mayChange={mayChange} />
        </Tabs.Content>
        <Tabs.Content value="room" p="0">
          <Largest folder={f.name} mayLook={mayChange} />
        </Tabs.Content>
        <Tabs.Content value="open" p="0">
          {published ? (
            <Stack gap="6">
              {mayChange && <LiveTry path={f.name} />}
              <Connect name={f.name} />
            </Stack>
          ) : (
            <Text color="faint">
              <Trans>It is not published yet, and so there is nothing to open.</Trans>
            </Text>
          )}
        </Tabs.Content>
        <Tabs.Content value="history" p="0">
          <JournalRows on={f.name} />
        </Tabs.Content>
        <Tabs.Content value="settings" p="0">
          <FolderSettings folder={f} mayChange={mayChange} />
        </Tabs.Content>
      </Tabs.Root>
    </>
  );
}

/** Whether what is wrong is wrong in a folder: its name stands in what it is about as a word of its own, or as the beginning of a path. */
const isAbout = (f: Finding, folder: string) =>
  `${f.subject} ${f.changes?.map((c) => JSON.stringify(c)).join(' ') ?? ''}`
    .split(/[\s",:{}[\]]+/)
    .some((word) => word === folder || word.startsWith(`${folder}/`));

/** How many paths may have something written on them before they are opened one by one. */
const few = 5;

/** What is written in a folder: on itself, and below it as a tree that opens. */
function Places({ folder: f, mayChange, findings }: { folder: Folder; mayChange: boolean; findings: Finding[] }) {
  const [params, setParams] = useSearchParams();
  const chosen = params.get('on') ?? '';
  const [top, ...below] = f.places;
  const branches = branchesOf(
    f.name,
    f.places.map((p) => ({
      path: p.path,
      says: [plural(p.explicit, { one: '# entry', other: '# entries' }), p.cut && t`inherits nothing from above`]
        .filter(Boolean)
        .join(', '),
    })),
  );
  const shown = below.length <= few ? below : below.filter((p) => p.path === chosen);
  const of = (p: Place) =>
    findings.filter((one) =>
      one.changes?.some((c) => 'with' in c && c.with && 'path' in c.with && c.with.path === p.path),
    );
  return (
    <>
      <Text color="faint" fontSize="sm" mb="4">
        <Trans>
          In the order in which entries are evaluated. What is written on a path holds for all below it, until it is
          cut.
        </Trans>
      </Text>
      {mayChange && <Arrange folder={f.name} />}
      <Stack gap="4">
        {top && (chosen === '' || below.length <= few || chosen === top.path) && (
          <PlaceSheet place={top} mayChange={mayChange} findings={of(top)} />
        )}
        {below.length > 0 && (
          <Part
            title={plural(below.length, {
              one: 'One path below has rules of its own',
              other: '# paths below have rules of their own',
            })}
          >
            <Box p="3">
              <Tree
                label={t`Paths on which something is written`}
                branches={branches}
                chosen={chosen || undefined}
                onChoose={(on) => setParams(on ? { on } : {}, { replace: true })}
              />
            </Box>
          </Part>
        )}
        {shown.map((p) => (
          <PlaceSheet key={p.path} place={p} mayChange={mayChange} findings={of(p)} />
        ))}
      </Stack>
      {mayChange && <AnotherPath folder={f.name} />}
    </>
  );
}

/** How much is in the folder, and how that stands with its limit. */
function FolderUse({ name }: { name: string }) {
  const uses = useUses('folder', name);
  const use = uses.data?.uses.find((u) => u.name === name);
  if (!use) return null;
  const standing = use.standings[0];
  return (
    <Fact name={t`In use`}>
      <Link to={`/limits?by=folder`}>
        <InUse use={use} />
      </Link>
      {standing && (
        <Box w="64" mt="2">
          <UseBar standing={standing} />
        </Box>
      )}
    </Fact>
  );
}

type ArrangementName = NonNullable<Extract<Change, { kind: 'rules'; act: 'arrange' }>['with']['arrangement']>;

/** Ready-made sets of entries, each a change that is shown first. */
function Arrange({ folder }: { folder: string }) {
  const arrangements = useArrangements();
  const [open, setOpen] = useState(false);
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { register, control, handleSubmit, watch } = useForm<{ name: ArrangementName; team: string; others: string }>({
    defaultValues: { name: 'together', team: '', others: '' },
  });
  const picked = arrangements.data?.find((a) => a.name === watch('name'));
  if (!open)
    return (
      <Box mb="4">
        <QuietButton size="sm" onClick={() => setOpen(true)}>
          <Trans>Arrange anew</Trans>
        </QuietButton>
      </Box>
    );
  return (
    <Sheet p="4" mb="4">
      <form
        onSubmit={handleSubmit((f) =>
          setAsking([
            {
              kind: 'rules',
              act: 'arrange',
              with: {
                path: folder,
                arrangement: f.name,
                team: listed(f.team),
                others: picked?.others ? listed(f.others) : undefined,
              },
            },
          ]),
        )}
      >
        <Flex gap="3" wrap="wrap" align="end">
          <Field.Root w={{ base: 'full', sm: '80' }}>
            <Field.Label>
              <Trans>Arrangement</Trans>
            </Field.Label>
            <Pick {...register('name')}>
              {arrangements.data?.map((a) => (
                <option key={a.name} value={a.name}>
                  {a.text}
                </option>
              ))}
            </Pick>
          </Field.Root>
          <Field.Root flex="1" minW="44">
            <Field.Label>{picked?.team ?? t`team`}</Field.Label>
            <PickerField
              of="who"
              several
              control={control}
              name="team"
              placeholder={t`users and groups`}
              rules={{ required: true }}
            />
          </Field.Root>
          {picked?.others && (
            <Field.Root flex="1" minW="44">
              <Field.Label>{picked.others}</Field.Label>
              <PickerField of="who" several control={control} name="others" placeholder={t`users and groups`} />
            </Field.Root>
          )}
          <QuietButton onClick={() => setOpen(false)}>
            <Trans>Cancel</Trans>
          </QuietButton>
          <MainButton type="submit">
            <Trans>See what it does</Trans>
          </MainButton>
        </Flex>
      </form>
      <Previewed
        title={t`Arrange ${folder} anew?`}
        act={t`Arrange`}
        changes={asking}
        done={t`${folder} is arranged: ${picked?.text ?? ''}.`}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          setOpen(false);
        }}
      >
        <Text>
          <Trans>What is written on the folder itself makes way. What is written below it stays.</Trans>
        </Text>
      </Previewed>
    </Sheet>
  );
}

/** What to type on a client to open the folder. */
function Connect({ name }: { name: string }) {
  const ways = useConnect(name);
  return ways.data ? <WaysIn ways={ways.data} /> : <Waiting error={ways.error} rows={3} />;
}

/** How many are at it now, and where that is looked at. */
function Connected({ folder }: { folder: string }) {
  const sessions = useSessions({ on: folder, limit: 1 });
  const total = sessions.data?.total;
  if (total === undefined) return null;
  const of = encodeURIComponent(folder);
  return (
    <Fact name={t`At the wire`}>
      <Link to={`/live?on=${of}`}>
        <Text textDecoration="underline" textDecorationColor="line">
          {total === 0 ? t`nobody` : plural(total, { one: '# client', other: '# clients' })}
        </Text>
      </Link>
      <Link to={`/live?show=throughput&of=${of}`}>
        <Text fontSize="sm" color="faint" textDecoration="underline" textDecorationColor="line">
          <Trans>throughput</Trans>
        </Text>
      </Link>
    </Fact>
  );
}
