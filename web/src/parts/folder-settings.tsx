import { Box, Flex, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { useNavigate } from 'react-router';
import { change } from '../api/change';
import { api, type Change, client, type Folder, taken, useMode } from '../api/client';
import { Confirm } from './confirm';
import { Previewed, useAsk } from './effect';
import { Entry, placeRefusal } from './form';
import { PickerField } from './picker';
import { Fact, MainButton, Part, QuietButton, Refused, Waiting } from './sheet';
import { say } from './toaster';

/** What a folder is, and what can become of it: each with a preview. */
export function FolderSettings({ folder: f, mayChange }: { folder: Folder; mayChange: boolean }) {
  return (
    <Stack gap="5">
      <About key={JSON.stringify([f.name, f.description, f.owner, f.group])} folder={f} mayChange={mayChange} />
      {f.permissions === 'unix' && <ModeSheet path={f.name} mayChange={mayChange} />}
      {mayChange && <Becomes folder={f} />}
    </Stack>
  );
}

function About({ folder: f, mayChange }: { folder: Folder; mayChange: boolean }) {
  const navigate = useNavigate();
  const was = { name: f.name, description: f.description ?? '', owner: f.owner ?? '', group: f.group ?? '' };
  const form = useForm({ defaultValues: was });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { register, control, handleSubmit, formState } = form;
  return (
    <Part title={t`What it is`}>
      <Box
        as="form"
        p="5"
        onSubmit={handleSubmit((is) => {
          const to = Object.fromEntries(
            Object.entries(is)
              .filter(([k, v]) => v.trim() !== was[k as keyof typeof was])
              .map(([k, v]) => [k, v.trim()]),
          );
          if (Object.keys(to).length > 0) setAsking([change('folder', 'change', { of: { name: f.name }, with: to })]);
        })}
      >
        <Flex gap="4" wrap="wrap" align="end">
          <Entry label={t`Name`} w="56" error={formState.errors.name}>
            <Input readOnly={!mayChange} {...register('name', { required: true })} />
          </Entry>
          <Entry label={t`What it is for`} flex="1" minW="64" error={formState.errors.description}>
            <Input readOnly={!mayChange} maxLength={200} {...register('description')} />
          </Entry>
          <Entry label={t`Owner`} w="48" error={formState.errors.owner}>
            <PickerField of="user" control={control} name="owner" placeholder={t`nobody`} />
          </Entry>
          <Entry label={t`Group`} w="48" error={formState.errors.group}>
            <PickerField of="group" control={control} name="group" placeholder={t`none`} />
          </Entry>
          {mayChange && (
            <MainButton type="submit">
              <Trans>See what it does</Trans>
            </MainButton>
          )}
        </Flex>
      </Box>
      <Previewed
        title={t`Change ${f.name}?`}
        act={t`Change it`}
        changes={asking}
        done={t`${f.name} is changed.`}
        onRefused={(e) => placeRefusal(e, form)}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          const name = form.getValues('name').trim();
          if (name !== f.name) navigate(`/folders/${encodeURIComponent(name)}?tab=settings`, { replace: true });
        }}
      />
    </Part>
  );
}

/** Owner, group and mode of what lies at a path where those decide. */
export function ModeSheet({ path, mayChange }: { path: string; mayChange: boolean }) {
  const mode = useMode(path, true);
  if (!mode.data) return <Waiting error={mode.error} rows={2} />;
  return <ModeForm key={JSON.stringify(mode.data)} path={path} mayChange={mayChange} mode={mode.data} />;
}

type Mode = NonNullable<ReturnType<typeof useMode>['data']>;

function ModeForm({ path, mayChange, mode: m }: { path: string; mayChange: boolean; mode: Mode }) {
  const was = { mode: m.mode, owner: m.owner, group: m.group };
  const form = useForm({ defaultValues: was });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { register, control, handleSubmit, formState } = form;
  return (
    <Part title={t`Owner, group and mode`}>
      <Box
        as="form"
        p="5"
        onSubmit={handleSubmit((is) => {
          const to = Object.fromEntries(Object.entries(is).filter(([k, v]) => v.trim() !== was[k as keyof typeof was]));
          if (Object.keys(to).length > 0) setAsking([change('mode', 'set', { with: { path, ...to } })]);
        })}
      >
        <Text color="faint" fontSize="sm" mb="4">
          <Trans>
            Here the owner, group, mode and POSIX ACL of each file and directory decide, and not entries. This is{' '}
            <Text as="span" fontFamily="mono">
              {path}
            </Text>{' '}
            itself, whose mode reads {m.text}.
          </Trans>
        </Text>
        <Flex gap="4" wrap="wrap" align="end">
          <Entry label={t`Mode, in octal`} w="40" error={formState.errors.mode}>
            <Input readOnly={!mayChange} fontFamily="mono" {...register('mode', { required: true })} />
          </Entry>
          <Entry label={t`Owner (uid ${m.uid})`} w="52" error={formState.errors.owner}>
            <PickerField of="user" control={control} name="owner" />
          </Entry>
          <Entry label={t`Group (gid ${m.gid})`} w="52" error={formState.errors.group}>
            <PickerField of="group" control={control} name="group" />
          </Entry>
          {mayChange && (
            <MainButton type="submit">
              <Trans>See what it does</Trans>
            </MainButton>
          )}
        </Flex>
      </Box>
      <Previewed
        title={t`Change ${path} itself?`}
        act={t`Change it`}
        changes={asking}
        done={t`${path} is changed.`}
        onRefused={(e) => placeRefusal(e, form)}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          client.invalidateQueries({ queryKey: ['mode'] });
        }}
      />
    </Part>
  );
}

/** What a folder can be turned into, and its end. */
function Becomes({ folder: f }: { folder: Folder }) {
  const navigate = useNavigate();
  const [ask, dialog] = useAsk();
  const [jobs, setJobs] = useState<'convert' | 'own' | 'survey' | null>(null);
  const { control, getValues, watch } = useForm({ defaultValues: { personal: f.personal?.group ?? '' } });
  const doing = useMutation({
    mutationFn: () => {
      const path = { name: f.name };
      switch (jobs) {
        case 'convert':
          return taken(api.POST('/api/v1/folders/{name}/convert', { params: { path } }));
        case 'own':
          return taken(api.POST('/api/v1/folders/{name}/personal', { params: { path } }));
        default:
          return taken(api.POST('/api/v1/surveys/{name}', { params: { path }, body: {} }));
      }
    },
    onSuccess: async () => {
      await client.invalidateQueries();
      say(t`It is begun: see its progress under jobs on the overview.`);
      setJobs(null);
    },
  });
  const row = (text: string, says: string, act: React.ReactNode) => (
    <Flex justify="space-between" align="center" gap="4" wrap="wrap" py="3" borderTopWidth="1px" borderColor="line">
      <Box flex="1" minW="56">
        <Text fontWeight="600">{text}</Text>
        <Text color="faint" fontSize="sm">
          {says}
        </Text>
      </Box>
      {act}
    </Flex>
  );
  const asks = {
    convert: [
      t`Turn the modes into entries?`,
      t`A job reads every owner, mode and POSIX ACL and writes entries that say the same.`,
    ],
    own: [t`Make the directories?`, t`A job makes one for everybody in ${f.personal?.group ?? ''} who has none yet.`],
    survey: [t`Look at every file?`, t`A job reads the mode of each and says who may do what to how many.`],
  } as const;
  return (
    <Part title={t`What can become of it`}>
      <Box px="5" pb="2">
        {row(
          t`What is read and written is recorded`,
          f.logAccess
            ? t`Each first read and write of a file is an access event.`
            : t`Only refusals, removals and new names are.`,
          <QuietButton
            size="sm"
            onClick={() =>
              ask({
                title: f.logAccess
                  ? t`Record reads and writes of ${f.name} no more?`
                  : t`Record reads and writes of ${f.name}?`,
                act: t`Change it`,
                done: t`${f.name} is changed.`,
                changes: [change('folder', 'change', { of: { name: f.name }, with: { logAccess: !f.logAccess } })],
              })
            }
          >
            {f.logAccess ? t`Record them no more` : t`Record them`}
          </QuietButton>,
        )}
        {f.permissions !== 'unix' &&
          row(
            t`A directory for each of a group`,
            f.personal
              ? t`It is personal for ${f.personal.group}: each has one of their own.`
              : t`Each has one of their own in it, and nobody sees another’s.`,
            <Flex gap="2" align="center">
              <Box w="48">
                <PickerField
                  of="group"
                  size="sm"
                  aria-label={t`Group for which it is personal`}
                  control={control}
                  name="personal"
                  placeholder={t`nobody`}
                />
              </Box>
              <QuietButton
                size="sm"
                disabled={watch('personal').trim() === (f.personal?.group ?? '')}
                onClick={() =>
                  ask({
                    title: t`Change for whom ${f.name} is personal?`,
                    act: t`Change it`,
                    done: t`${f.name} is changed.`,
                    changes: [
                      change('folder', 'change', {
                        of: { name: f.name },
                        with: { personal: getValues('personal').trim() },
                      }),
                    ],
                  })
                }
              >
                <Trans>See what it does</Trans>
              </QuietButton>
              {f.personal && (
                <QuietButton size="sm" onClick={() => setJobs('own')}>
                  <Trans>Make them all now</Trans>
                </QuietButton>
              )}
            </Flex>,
          )}
        {f.permissions === 'unix' &&
          row(
            t`Entries in the place of modes`,
            t`Everybody keeps what they may; from then on entries decide.`,
            <QuietButton size="sm" onClick={() => setJobs('convert')}>
              <Trans>Turn modes into entries</Trans>
            </QuietButton>,
          )}
        {f.permissions === 'unix' &&
          row(
            t`Who may do what to how many files`,
            t`Where modes decide, each file may differ.`,
            <QuietButton size="sm" onClick={() => setJobs('survey')}>
              <Trans>Look at all of them</Trans>
            </QuietButton>,
          )}
        {row(
          t`Its end`,
          t`It is published no more and has no entries any more. The directory and what is in it stay where they are.`,
          <QuietButton
            size="sm"
            color="shut"
            onClick={() =>
              ask({
                title: t`Forget the folder ${f.name}?`,
                act: t`Forget it`,
                done: t`${f.name} is no folder any more; its files stay.`,
                changes: [change('folder', 'remove', { of: { name: f.name } })],
                after: () => navigate('/folders'),
              })
            }
          >
            <Trans>Forget it</Trans>
          </QuietButton>,
        )}
      </Box>
      {dialog}
      <Confirm
        title={jobs ? asks[jobs][0] : ''}
        act={t`Begin`}
        open={jobs !== null}
        busy={doing.isPending}
        onClose={() => setJobs(null)}
        onAct={() => doing.mutate()}
      >
        <Text>{jobs && asks[jobs][1]}</Text>
        {doing.error && <Refused error={doing.error} />}
      </Confirm>
    </Part>
  );
}

/** What a folder is, said short. */
export const FolderFacts = ({ folder: f }: { folder: Folder }) => (
  <>
    <Fact name={t`On`}>
      <Trans>
        {f.volume}, at {f.path}
      </Trans>
    </Fact>
    {f.owner && <Fact name={t`Owner`}>{f.owner}</Fact>}
    {f.group && <Fact name={t`Group`}>{f.group}</Fact>}
  </>
);
