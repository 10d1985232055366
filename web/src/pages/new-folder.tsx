import { Box, Checkbox, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { zodResolver } from '@hookform/resolvers/zod';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { type ReactNode, useEffect, useState } from 'react';
import { type UseFormReturn, useForm } from 'react-hook-form';
import { Link, useNavigate } from 'react-router';
import {
  type Arrangement,
  api,
  type Change,
  client,
  make,
  Refusal,
  taken,
  useArrangements,
  useVolumes,
} from '../api/client';
import { useSettled } from '../api/find';
import { Command } from '../parts/command';
import { EffectView } from '../parts/effect';
import { Entry, placeRefusal } from '../parts/form';
import { More } from '../parts/more';
import { Pick } from '../parts/pick';
import { PickerField } from '../parts/picker';
import { z } from '../parts/shape';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { sayMade } from '../parts/toaster';
import { size } from '../parts/use';
import { listed, quoted } from '../parts/words';
import { AddVolume } from './volumes';

const NewFolder = z.object({
  name: z.string().trim().min(1, t`A folder has a name, such as nightlog.`),
  volume: z.string().min(1, t`Say on which volume it is.`),
  path: z.string().trim(),
  description: z.string().trim(),
  owner: z.string().trim(),
  group: z.string().trim(),
  label: z
    .string()
    .trim()
    .refine((t) => t === '' || t.includes('='), t`A label is KEY=VALUE, such as backup=nightly.`),
  decides: z.enum(['entries', 'convert', 'unix']),
  arrangement: z.string(),
  team: z.string(),
  others: z.string(),
  smb: z.boolean(),
  share: z.string().trim(),
  hidden: z.boolean(),
  readOnly: z.boolean(),
  openable: z.boolean(),
  nfs: z.boolean(),
  hosts: z.string(),
  write: z.boolean(),
  limit: z.string().trim(),
});
type Filled = z.infer<typeof NewFolder>;

const empty: Filled = {
  name: '',
  volume: '',
  path: '',
  description: '',
  owner: '',
  group: '',
  label: '',
  decides: 'entries',
  arrangement: 'together',
  team: '',
  others: '',
  smb: true,
  share: '',
  hidden: false,
  readOnly: false,
  openable: false,
  nfs: false,
  hosts: '',
  write: true,
  limit: '',
};

const begun = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

/** What is filled in as changes, each with the command that does the same and what it is in words. */
function drawnUp(f: Filled, arrangement?: Arrangement): { change: Change; command: string; words: string }[] {
  if (!f.name || !f.volume) return [];
  const arranged = f.decides === 'entries' && arrangement && listed(f.team).length > 0;
  const out: { change: Change; command: string; words: string }[] = [];
  const flags = (given: [string, string | undefined | false][]) =>
    given.map(([flag, value]) => (value ? ` --${flag} ${quoted(value)}` : '')).join('');
  const [key = '', ...rest] = f.label.split('=');
  out.push({
    change: {
      kind: 'folder',
      act: 'add',
      with: {
        name: f.name,
        volume: f.volume,
        ...(f.path && { path: f.path }),
        ...(f.description && { description: f.description }),
        ...(f.owner && { owner: f.owner }),
        ...(f.group && { group: f.group }),
        ...(f.label && { labels: { [key.trim()]: rest.join('=').trim() } }),
        ...(f.decides === 'unix' && { permissions: 'unix' }),
        ...(f.decides === 'convert' && { convert: true }),
        ...(arranged && {
          arrangement: f.arrangement as NonNullable<
            Extract<Change, { kind: 'folder'; act: 'add' }>['with']['arrangement']
          >,
          team: listed(f.team),
          ...(arrangement?.others && listed(f.others).length > 0 && { others: listed(f.others) }),
        }),
      },
    },
    command:
      `folder add ${quoted(f.name)}` +
      flags([
        ['volume', f.volume],
        ['path', f.path],
        ['description', f.description],
        ['owner', f.owner],
        ['group', f.group],
        ['mark', f.label],
        ['permissions', f.decides === 'unix' && 'unix'],
        ['arrangement', arranged && f.arrangement],
        ...(arranged ? listed(f.team).map((t): [string, string] => ['team', t]) : []),
        ...(arranged && arrangement?.others ? listed(f.others).map((t): [string, string] => ['others', t]) : []),
      ]) +
      (f.decides === 'convert' ? ' --convert' : ''),
    words: t`The folder ${f.name} on volume ${f.volume}${f.path ? t`, at ${f.path}` : ''}${
      arranged
        ? `: ${arrangement?.text}`
        : f.decides === 'unix'
          ? t`, where Unix modes decide`
          : f.decides === 'convert'
            ? t`, its modes turned into entries`
            : t`, into which nobody gets yet`
    }.`,
  });
  if (f.smb)
    out.push({
      change: {
        kind: 'share',
        act: 'add',
        with: {
          folder: f.name,
          ...(f.share && { name: f.share }),
          ...(f.hidden && { hidden: true }),
          ...(f.readOnly && { readOnly: true }),
          ...(f.openable && { listOnlyOpenable: true }),
        },
      },
      command:
        `share add ${quoted(f.name)}${flags([['name', f.share]])}` +
        (f.hidden ? ' --hidden' : '') +
        (f.readOnly ? ' --read-only' : '') +
        (f.openable ? ' --list-only-openable' : ''),
      words: t`Published over SMB as ${f.share || f.name}${f.readOnly ? t`, read-only` : ''}${f.hidden ? t`, not announced` : ''}.`,
    });
  if (f.nfs) {
    const mayWrite = (from: string) => f.write && !from.startsWith('@'); // a set says so itself
    out.push({
      change: { kind: 'export', act: 'add', with: { folder: f.name } },
      command: `export add ${quoted(f.name)}`,
      words: t`Published over NFS as /${f.name}${listed(f.hosts).length === 0 ? t`, to no host yet` : ''}.`,
    });
    for (const from of listed(f.hosts))
      out.push({
        change: {
          kind: 'export rule',
          act: 'add',
          of: { name: `/${f.name}` },
          with: { from, ...(mayWrite(from) && { write: true }) },
        },
        command: `export rule add /${f.name} ${quoted(from)}${mayWrite(from) ? ' --rw' : ''}`,
        words: from.startsWith('@')
          ? t`The hosts of ${from.slice(1)} mount it, on their set’s terms.`
          : t`${from} mounts it, ${f.write ? t`to read and write` : t`to read`}.`,
      });
  }
  if (f.limit)
    out.push({
      change: { kind: 'limit', act: 'set', with: { kind: 'folder', name: f.name, hardBytes: f.limit } },
      command: `limit set folder ${quoted(f.name)} --hard ${quoted(f.limit)}`,
      words: t`It holds ${f.limit} at most.`,
    });
  return out;
}

/** What the service calls otherwise than the form does. */
const names: Record<string, keyof Filled> = {
  from: 'hosts',
  hardBytes: 'limit',
  labels: 'label',
  folder: 'name',
  convert: 'decides',
  permissions: 'decides',
};

/** A folder from nothing to published, on one page, with what it does beside it. */
export function NewFolderPage() {
  const volumes = useVolumes();
  const arrangements = useArrangements();
  const navigate = useNavigate();
  const form = useForm<Filled>({ resolver: zodResolver(NewFolder), defaultValues: empty, mode: 'onTouched' });
  const f = form.watch();
  const picked = arrangements.data?.find((a) => a.name === f.arrangement);
  const drawn = drawnUp(f, picked);
  const [made, setMade] = useState(false);
  // What half a name would be refused for is not asked: it would move the list away from under the pointer.
  const [choosing, setChoosing] = useState(false);
  const settled = useSettled(drawn.map((d) => d.change));
  const effect = useQuery({
    queryKey: ['preview', settled],
    enabled: settled.length > 0 && !made && !choosing,
    staleTime: 0,
    gcTime: 0,
    retry: false,
    placeholderData: (before) => before,
    queryFn: () => taken(api.POST('/api/v1/preview', { body: { changes: settled } })),
  });
  const refused = effect.error;
  const { getValues, setValue } = form;
  useEffect(() => {
    if (refused) placeRefusal(refused, form, names, false);
    else form.clearErrors();
  }, [refused, form]);
  const only = volumes.data?.length === 1 ? volumes.data[0]?.name : undefined;
  useEffect(() => {
    if (only && !getValues('volume')) setValue('volume', only);
  }, [only, getValues, setValue]);
  const making = useMutation({
    mutationFn: () => make(drawnUp(NewFolder.parse(getValues()), picked).map((d) => d.change)),
    onMutate: () => setMade(true),
    onSuccess: async ({ row }) => {
      await client.invalidateQueries();
      sayMade(t`${getValues('name')} is made.`, row);
      navigate(`/folders/${encodeURIComponent(getValues('name'))}${f.smb || f.nfs ? '?tab=open' : ''}`);
    },
    onError: (e) => {
      setMade(false);
      placeRefusal(e, form, names);
    },
  });
  if (!volumes.data || !arrangements.data) return <Waiting error={volumes.error ?? arrangements.error} />;
  if (volumes.data.length === 0)
    return (
      <>
        <PageHead title={t`A new folder`} text={t`First, where its files are to lie`} />
        <AddVolume first onDone={(name) => setValue('volume', name)} />
      </>
    );
  const wrong = form.formState.errors;
  return (
    <>
      <Link to="/folders">
        <Text color="faint" fontSize="sm" mb="2">
          <Trans>← Folders</Trans>
        </Text>
      </Link>
      <PageHead title={t`A new folder`} text={t`From nothing to published, and taken back as one`} />
      <Flex direction={{ base: 'column', xl: 'row' }} gap="6" align="start">
        <Box as="form" flex="1" minW="0" w="full" onSubmit={form.handleSubmit(() => making.mutate())}>
          <Stack gap="5">
            <Step title={t`What and where`}>
              <Flex gap="4" wrap="wrap">
                <Entry label={t`Name`} flex="1" minW="44" error={wrong.name}>
                  <Input autoFocus autoComplete="off" {...form.register('name')} />
                </Entry>
                <Entry label={t`Volume`} flex="1" minW="44" error={wrong.volume}>
                  <Pick {...form.register('volume')}>
                    <option value="">
                      <Trans>choose</Trans>
                    </option>
                    {volumes.data.map((v) => (
                      <option key={v.name} value={v.name} disabled={!!v.away}>
                        {v.name}
                        {v.freeBytes !== undefined && t`, ${size(v.freeBytes)} free`}
                        {v.away && t`, away`}
                      </option>
                    ))}
                  </Pick>
                </Entry>
              </Flex>
              <Entry label={t`What it is for`} error={wrong.description}>
                <Input maxLength={200} {...form.register('description')} />
              </Entry>
              <More text={t`Its directory, owner and labels`}>
                <Entry
                  label={t`Directory on the volume`}
                  help={t`Called as the folder is, if left empty. One that is there already is taken over with what is in it.`}
                  error={wrong.path}
                >
                  <Input
                    fontFamily="mono"
                    fontSize="sm"
                    placeholder={f.name || t`path/below`}
                    {...form.register('path')}
                  />
                </Entry>
                <Flex gap="4" wrap="wrap">
                  <Who label={t`Owner`} field="owner" kind="user" form={form} onChoosing={setChoosing} />
                  <Who label={t`Group`} field="group" kind="group" form={form} onChoosing={setChoosing} />
                  <Entry label={t`Label`} flex="1" minW="44" error={wrong.label}>
                    <Input placeholder={t`backup=nightly`} {...form.register('label')} />
                  </Entry>
                </Flex>
              </More>
            </Step>
            <Step title={t`Who gets in`}>
              <Entry label={t`What decides`} error={wrong.decides}>
                <Pick {...form.register('decides')}>
                  <option value="entries">
                    <Trans>entries, arranged here</Trans>
                  </option>
                  <option value="convert">
                    <Trans>entries, made from the owners and modes of what is there</Trans>
                  </option>
                  <option value="unix">
                    <Trans>owner, group and mode of each file, as on Unix</Trans>
                  </option>
                </Pick>
              </Entry>
              {f.decides === 'entries' && (
                <>
                  <Entry label={t`Arrangement`} error={wrong.arrangement}>
                    <Pick {...form.register('arrangement')}>
                      {arrangements.data.map((a) => (
                        <option key={a.name} value={a.name}>
                          {a.text}
                        </option>
                      ))}
                    </Pick>
                  </Entry>
                  <Flex gap="4" wrap="wrap">
                    <Who
                      label={begun(picked?.team ?? 'team')}
                      field="team"
                      kind="both"
                      form={form}
                      onChoosing={setChoosing}
                    />
                    {picked?.others && (
                      <Who
                        label={begun(picked.others)}
                        field="others"
                        kind="both"
                        form={form}
                        onChoosing={setChoosing}
                      />
                    )}
                  </Flex>
                </>
              )}
              {f.decides === 'convert' && (
                <Text color="faint" fontSize="sm">
                  <Trans>
                    A job goes through all that is there and writes entries that say the same. Until it is through,
                    nobody gets in by them.
                  </Trans>
                </Text>
              )}
            </Step>
            <Step title={t`How it is reached`}>
              <Tick form={form} field="smb" text={t`Over SMB, for Windows, macOS and Linux desktops`} />
              {f.smb && (
                <More text={t`As ${f.share || f.name || t`a share`}, announced: its name and other options`}>
                  <Entry label={t`Name of the share`} help={t`The folder's, if left empty.`} error={wrong.share}>
                    <Input placeholder={f.name} {...form.register('share')} />
                  </Entry>
                  <Tick form={form} field="hidden" text={t`Not announced: one has to know its name`} />
                  <Tick form={form} field="readOnly" text={t`Nobody changes anything through it`} />
                  <Tick form={form} field="openable" text={t`Listings leave out what one may not open`} />
                </More>
              )}
              <Tick form={form} field="nfs" text={t`Over NFS, for hosts with Unix`} />
              {f.nfs && (
                <Flex gap="4" wrap="wrap" align="end">
                  <Entry
                    label={t`From which hosts`}
                    help={t`Addresses, networks, names, or a host set as @name.`}
                    flex="1"
                    minW="64"
                    error={wrong.hosts}
                  >
                    <PickerField
                      of="host"
                      several
                      control={form.control}
                      name="hosts"
                      onChoosing={setChoosing}
                      placeholder={t`192.0.2.0/24, @dome-hosts`}
                    />
                  </Entry>
                  <Tick form={form} field="write" text={t`They may write`} />
                </Flex>
              )}
            </Step>
            <Step title={t`How much it may hold`}>
              <Entry
                label={t`At most`}
                help={t`Such as 500GB. Nothing bounds it if left empty.`}
                w="60"
                error={wrong.limit}
              >
                <Input placeholder={t`no limit`} {...form.register('limit')} />
              </Entry>
            </Step>
            <HStack>
              <MainButton type="submit" loading={making.isPending} disabled={!!refused}>
                <Trans>Make it</Trans>
              </MainButton>
              <Link to="/folders">
                <QuietButton as="span">
                  <Trans>Leave it</Trans>
                </QuietButton>
              </Link>
            </HStack>
            {making.error && <Refused error={making.error} />}
          </Stack>
        </Box>
        <Box w={{ base: 'full', xl: '380px' }} position={{ xl: 'sticky' }} top="6">
          <Sheet as="section" aria-label={t`What it does`} p="5">
            <Text as="h2" fontWeight="700" mb="3">
              <Trans>What it does</Trans>
            </Text>
            {drawn.length === 0 ? (
              <Text color="faint">
                <Trans>A name and a volume, and it is said here.</Trans>
              </Text>
            ) : (
              <Stack gap="4">
                <Stack as="ul" gap="1" ps="4" listStyleType="disc">
                  {drawn.map((d) => (
                    <Text as="li" key={d.command}>
                      {d.words}
                    </Text>
                  ))}
                </Stack>
                {refused && !(refused instanceof Refusal && Object.keys(wrong).length > 0) && (
                  <Refused error={refused} />
                )}
                {effect.data && !refused && <EffectView narrow effect={effect.data} />}
                <Box>
                  <Text fontSize="sm" color="faint" mb="1">
                    <Trans>The same as a command</Trans>
                  </Text>
                  <Command
                    text={
                      drawn.length === 1
                        ? t`amber ${drawn[0]?.command ?? ''}`
                        : t`amber together ${drawn.map((d) => quoted(d.command)).join(' ')}`
                    }
                  />
                </Box>
              </Stack>
            )}
          </Sheet>
        </Box>
      </Flex>
    </>
  );
}

function Step({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Sheet as="section" aria-label={title} p="5">
      <Text as="h2" fontWeight="700" mb="4">
        {title}
      </Text>
      <Stack gap="4">{children}</Stack>
    </Sheet>
  );
}

type Flag = { [K in keyof Filled]: Filled[K] extends boolean ? K : never }[keyof Filled];

function Tick({ form, field, text }: { form: UseFormReturn<Filled>; field: Flag; text: string }) {
  return (
    <Checkbox.Root checked={form.watch(field)} onCheckedChange={(e) => form.setValue(field, e.checked === true)}>
      <Checkbox.HiddenInput />
      <Checkbox.Control />
      <Checkbox.Label>{text}</Checkbox.Label>
    </Checkbox.Root>
  );
}

/** Users, groups or both, by name. */
function Who(props: {
  label: string;
  field: 'owner' | 'group' | 'team' | 'others';
  kind: 'user' | 'group' | 'both';
  form: UseFormReturn<Filled>;
  onChoosing: (now: boolean) => void;
}) {
  const { label, field, kind, form, onChoosing } = props;
  return (
    <Entry label={label} flex="1" minW="52" error={form.formState.errors[field]}>
      <PickerField
        of={kind === 'both' ? 'who' : kind}
        several={kind === 'both'}
        control={form.control}
        name={field}
        onChoosing={onChoosing}
        placeholder={kind === 'both' ? t`users and groups` : t`nobody`}
      />
    </Entry>
  );
}
