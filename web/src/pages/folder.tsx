import { Box, Field, Flex, Heading, HStack, Input, Stack, Tabs, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link, useParams, useSearchParams } from 'react-router';
import { type Change, useArrangements, useConnect, useFolder, useMe, useMode, useUses } from '../api/client';
import { Away } from '../parts/away';
import { Command } from '../parts/command';
import { Previewed } from '../parts/effect';
import { AnotherPath, PlaceSheet } from '../parts/entries';
import { AlterLabels } from '../parts/labels';
import { Largest } from '../parts/largest';
import { Pick } from '../parts/pick';
import { Fact, MainButton, PageHead, QuietButton, Sheet, Waiting } from '../parts/sheet';
import { InUse, UseBar } from '../parts/use';
import { listed } from '../parts/words';
import { Exports } from './exports';
import { Ways } from './folders';

/** One folder: where it is published, and everything written on it and in it. */
export function FolderPage() {
  const { name = '' } = useParams();
  const folder = useFolder(name);
  const me = useMe();
  const [params, setParams] = useSearchParams();
  const tab = params.get('tab') ?? 'access';
  const mayChange = me.data?.role === 'administrator';
  if (!folder.data) return <Waiting error={folder.error} />;
  const f = folder.data;
  return (
    <>
      <Link to="/folders">
        <Text color="faint" fontSize="sm" mb="2">
          ← Folders
        </Text>
      </Link>
      <PageHead title={f.name} text={f.description}>
        <HStack>
          <a href={`/api/v1/reports/folder?of=${encodeURIComponent(f.name)}`}>
            <QuietButton as="span">For paper</QuietButton>
          </a>
          <Link to={`/who?path=${encodeURIComponent(f.name)}`}>
            <QuietButton as="span">Who may what</QuietButton>
          </Link>
          <Link to={`/why?path=${encodeURIComponent(f.name)}`}>
            <QuietButton as="span">Ask why</QuietButton>
          </Link>
        </HStack>
      </PageHead>
      {f.away && <Away why={f.away} volume={f.volume} />}
      <Flex gap="6" mb="8" wrap="wrap">
        <Fact name="On">
          {f.volume}, at {f.path}
        </Fact>
        {f.owner && <Fact name="Owner">{f.owner}</Fact>}
        {f.group && <Fact name="Group">{f.group}</Fact>}
        <Fact name="Published as">
          <Ways folder={f} />
        </Fact>
        <FolderUse name={f.name} />
        <Fact name="Labels">
          <AlterLabels
            labels={f.labels}
            list="/folders"
            mayChange={mayChange}
            change={(labels) => ({ kind: 'folder', act: 'change', of: { name: f.name }, with: { labels } })}
          />
        </Fact>
      </Flex>
      <Tabs.Root
        value={tab}
        onValueChange={(e) => setParams(e.value === 'access' ? {} : { tab: e.value }, { replace: true })}
        lazyMount
        css={{ '--indicator-color': 'colors.accent' }}
      >
        <Tabs.List borderColor="line" mb="5">
          <Tabs.Trigger value="access">Who may do what</Tabs.Trigger>
          <Tabs.Trigger value="exports">Exports</Tabs.Trigger>
          <Tabs.Trigger value="room">What takes the room</Tabs.Trigger>
          <Tabs.Trigger value="open">How to open it</Tabs.Trigger>
        </Tabs.List>
        <Tabs.Content value="access" p="0">
          {f.permissions === 'unix' ? (
            <ModeSheet path={f.name} />
          ) : (
            <>
              <Text color="faint" fontSize="sm" mb="4">
                In the order in which entries are evaluated. What is written on a path holds for all below it, until it
                is cut.
              </Text>
              {mayChange && <Arrange folder={f.name} />}
              <Stack gap="4">
                {f.places.map((p) => (
                  <PlaceSheet key={p.path} place={p} mayChange={mayChange} />
                ))}
              </Stack>
              {mayChange && <AnotherPath folder={f.name} />}
            </>
          )}
        </Tabs.Content>
        <Tabs.Content value="exports" p="0">
          <Exports folder={f.name} mayChange={mayChange} />
        </Tabs.Content>
        <Tabs.Content value="room" p="0">
          <Largest folder={f.name} mayLook={mayChange} />
        </Tabs.Content>
        <Tabs.Content value="open" p="0">
          {f.shares.length + f.exports.length > 0 ? (
            <Connect name={f.name} />
          ) : (
            <Text color="faint">It is not published yet, and so there is nothing to open.</Text>
          )}
        </Tabs.Content>
      </Tabs.Root>
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
    <Fact name="In use">
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
  const { register, handleSubmit, watch } = useForm<{ name: ArrangementName; team: string; others: string }>({
    defaultValues: { name: 'together', team: '', others: '' },
  });
  const picked = arrangements.data?.find((a) => a.name === watch('name'));
  if (!open)
    return (
      <Box mb="4">
        <QuietButton size="sm" onClick={() => setOpen(true)}>
          Arrange anew
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
            <Field.Label>Arrangement</Field.Label>
            <Pick {...register('name')}>
              {arrangements.data?.map((a) => (
                <option key={a.name} value={a.name}>
                  {a.text}
                </option>
              ))}
            </Pick>
          </Field.Root>
          <Field.Root flex="1" minW="44">
            <Field.Label>{picked?.team ?? 'team'}</Field.Label>
            <Input autoComplete="off" placeholder="users and groups" {...register('team', { required: true })} />
          </Field.Root>
          {picked?.others && (
            <Field.Root flex="1" minW="44">
              <Field.Label>{picked.others}</Field.Label>
              <Input autoComplete="off" placeholder="users and groups" {...register('others')} />
            </Field.Root>
          )}
          <QuietButton onClick={() => setOpen(false)}>Cancel</QuietButton>
          <MainButton type="submit">See what it does</MainButton>
        </Flex>
      </form>
      <Previewed
        title={`Arrange ${folder} anew?`}
        act="Arrange"
        changes={asking}
        done={`${folder} is arranged: ${picked?.text}.`}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          setOpen(false);
        }}
      >
        <Text>What is written on the folder itself makes way. What is written below it stays.</Text>
      </Previewed>
    </Sheet>
  );
}

/** Owner, group and mode of a folder in which those decide. */
function ModeSheet({ path }: { path: string }) {
  const mode = useMode(path, true);
  if (!mode.data) return <Waiting error={mode.error} rows={2} />;
  const m = mode.data;
  return (
    <>
      <Text color="faint" fontSize="sm" mb="4">
        Here the owner, group, mode and POSIX ACL of each file and directory decide, and not entries. This is the folder
        itself:
      </Text>
      <Sheet p="4">
        <Flex gap="8" wrap="wrap" mb="4">
          <Fact name="Mode">
            <Text as="span" fontFamily="mono" fontSize="sm">
              {m.mode} {m.text}
            </Text>
          </Fact>
          <Fact name="Owner">
            {m.owner} ({m.uid})
          </Fact>
          <Fact name="Group">
            {m.group} ({m.gid})
          </Fact>
        </Flex>
        <Command text={`amber mode set ${path} ${m.mode}`} />
      </Sheet>
    </>
  );
}

/** What to type on a client to open the folder. */
function Connect({ name }: { name: string }) {
  const ways = useConnect(name);
  const kinds = [...new Set(ways.data?.map((w) => `${w.system}, over ${w.over}`))];
  return (
    <Box>
      {!ways.data ? (
        <Waiting error={ways.error} rows={3} />
      ) : (
        <Stack gap="4">
          {kinds.map((kind) => (
            <Sheet key={kind} p="4">
              <Heading as="h3" fontSize="md" mb="3">
                {kind}
              </Heading>
              <Stack gap="3">
                {ways.data
                  .filter((w) => `${w.system}, over ${w.over}` === kind)
                  .map((w) => (
                    <Box key={w.text}>
                      <Text color="faint" fontSize="sm" mb="1">
                        {w.does}
                      </Text>
                      <Command text={w.text} />
                    </Box>
                  ))}
              </Stack>
            </Sheet>
          ))}
        </Stack>
      )}
    </Box>
  );
}
