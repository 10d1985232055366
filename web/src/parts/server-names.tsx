import { Box, Flex, Input, Text, Textarea } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { change } from '../api/change';
import { type Change, type ServerName, useServerNames } from '../api/client';
import { Previewed, useAsk } from './effect';
import { Entry, FormEnd, placeRefusal } from './form';
import { AddIcon } from './icons';
import { Part, QuietButton, Waiting } from './sheet';
import { DataTable } from './table';

type Lead = { share: string; to: string };

/** Where the shares of another name are, as it is typed: one to a line. */
export const leadsText = (leads: Lead[]) => leads.map((l) => `${l.share} = ${l.to}`).join('\n');

/** Reads that; what has no = is a share that leads nowhere, which the service says. */
export const leadsOf = (text: string): Lead[] =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)
    .map((line) => {
      const at = line.indexOf('=');
      return at < 0 ? { share: line, to: line } : { share: line.slice(0, at).trim(), to: line.slice(at + 1).trim() };
    });

/** What is to be said of leads so that they are these: those that are no more are taken away. */
export const leadChanges = (was: Lead[], is: Lead[]): Lead[] => [
  ...is.filter((l) => !was.some((w) => w.share === l.share && w.to === l.to)),
  ...was
    .filter((w) => !is.some((l) => l.share.toLowerCase() === w.share.toLowerCase()))
    .map((w) => ({ share: w.share, to: '' })),
];

/** Other names by which clients reach the server over SMB, such as that of an older one. */
export function ServerNames({ mayChange }: { mayChange: boolean }) {
  const names = useServerNames();
  const [ask, dialog] = useAsk();
  const [editing, setEditing] = useState<string | null>(null);
  if (!names.data) return <Waiting error={names.error} />;
  return (
    <Part
      title={t`Other names of the server, over SMB`}
      act={
        mayChange &&
        editing === null && (
          <QuietButton size="sm" onClick={() => setEditing('')}>
            <AddIcon /> <Trans>Add a name</Trans>
          </QuietButton>
        )
      }
    >
      {editing === '' && <Form onDone={() => setEditing(null)} />}
      {names.data.length === 0 ? (
        <Text px="5" py="4" color="faint">
          <Trans>
            None. By the name of an older server, clients find here what took the place of its shares, or are sent to
            where they are.
          </Trans>
        </Text>
      ) : (
        <DataTable
          label={t`Other names of the server`}
          rows={names.data}
          rowKey={(n) => n.name}
          under={(n) => editing === n.name && <Form of={n} onDone={() => setEditing(null)} />}
          columns={[
            {
              head: t`Name`,
              by: (n) => n.name,
              cell: (n) => (
                <>
                  {n.name}
                  {n.description && (
                    <Text color="faint" fontSize="sm" fontWeight="400">
                      {n.description}
                    </Text>
                  )}
                </>
              ),
              is: { fontWeight: '600' },
            },
            {
              head: t`Leads`,
              cell: (n) =>
                n.leads.length === 0 ? (
                  <Text color="faint">
                    <Trans>to the shares of the same names</Trans>
                  </Text>
                ) : (
                  n.leads.map((l) => (
                    <Text key={l.share}>
                      {l.share} <Trans>to</Trans>{' '}
                      <Text as="span" fontFamily={l.elsewhere ? 'mono' : undefined} fontSize="sm">
                        {l.to}
                      </Text>
                    </Text>
                  ))
                ),
              is: { whiteSpace: 'normal' },
            },
            {
              head: `-${t`Change`}`,
              cell: (n) =>
                mayChange && (
                  <Flex gap="2" justify="flex-end">
                    <QuietButton size="xs" onClick={() => setEditing(editing === n.name ? null : n.name)}>
                      <Trans>
                        Change
                        <Text srOnly>the name {n.name}</Text>
                      </Trans>
                    </QuietButton>
                    <QuietButton
                      size="xs"
                      onClick={() =>
                        ask({
                          title: t`Take the name ${n.name} away?`,
                          act: t`Take it away`,
                          done: t`Nobody is led by the name ${n.name} any more.`,
                          changes: [change('server name', 'remove', { of: { name: n.name } })],
                        })
                      }
                    >
                      <Trans>
                        Remove
                        <Text srOnly>the name {n.name}</Text>
                      </Trans>
                    </QuietButton>
                  </Flex>
                ),
              is: { textAlign: 'end' },
            },
          ]}
        />
      )}
      {dialog}
    </Part>
  );
}

function Form({ of, onDone }: { of?: ServerName; onDone: () => void }) {
  const was = { name: of?.name ?? '', description: of?.description ?? '', leads: leadsText(of?.leads ?? []) };
  const form = useForm({ defaultValues: was });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { register, handleSubmit, formState } = form;
  return (
    <Box
      as="form"
      px="5"
      py="4"
      borderBottomWidth="1px"
      borderColor="line"
      onSubmit={handleSubmit((f) => {
        const name = f.name.trim();
        if (!of) {
          setAsking([
            change('server name', 'add', {
              with: { name, ...(f.description && { description: f.description }), leads: leadsOf(f.leads) },
            }),
          ]);
          return;
        }
        const leads = leadChanges(of.leads, leadsOf(f.leads));
        const to = {
          ...(name !== was.name && { name }),
          ...(f.description !== was.description && { description: f.description }),
          ...(leads.length > 0 && { leads }),
        };
        if (Object.keys(to).length === 0) onDone();
        else setAsking([change('server name', 'change', { of: { name: of.name }, with: to })]);
      })}
    >
      <Flex gap="3" wrap="wrap" align="end">
        <Entry label={t`Name`} w="64" error={formState.errors.name}>
          <Input autoFocus placeholder={t`barn`} {...register('name', { required: true })} />
        </Entry>
        <Entry label={t`Description`} flex="1" minW="56" error={formState.errors.description}>
          <Input maxLength={200} {...register('description')} />
        </Entry>
        <Entry
          label={t`Where its shares are now`}
          w="full"
          error={formState.errors.leads}
          help={t`One to a line, as SHARE = TO: a share here, or \\\\SERVER\\SHARE. All others are the shares of the same names here.`}
        >
          <Textarea rows={3} fontFamily="mono" placeholder={t`raw = plates`} {...register('leads')} />
        </Entry>
        <FormEnd onCancel={onDone} />
      </Flex>
      <Previewed
        title={of ? t`Change the name ${of.name}?` : t`Have the server be reached by that name?`}
        act={of ? t`Change it` : t`Add it`}
        changes={asking}
        done={of ? t`The name ${of.name} is changed.` : t`The server has another name.`}
        onRefused={(e) => placeRefusal(e, form, { to: 'leads', share: 'leads' })}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
    </Box>
  );
}
