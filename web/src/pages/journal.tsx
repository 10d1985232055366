import { Flex, HStack, Input } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { lookAt } from '../api/past';
import { Entry } from '../parts/form';
import { boundOf, JournalRows } from '../parts/journal-rows';
import { useParamsOf } from '../parts/params';
import { Picker } from '../parts/picker';
import { PageHead, QuietButton } from '../parts/sheet';

/** Everything that was done, by whom and when, in words; and what can be taken back. */
export function Journal() {
  const [params, alter] = useParamsOf();
  const of = (name: string) => params.get(name) ?? '';
  const narrow = (name: string, value: string) => {
    alter({ [name]: value }, true);
  };
  const asked = { by: of('by'), on: of('on'), since: of('since'), until: of('until') };
  const given = Object.entries(asked).filter(([, value]) => value);
  const query = new URLSearchParams([['format', 'csv'], ...given.map(([n, v]) => [n, boundOf(n, v)])]);
  return (
    <>
      <PageHead title={t`Journal`} text={t`Every change, by whom and when; each follows from the one before`}>
        <a href={`/api/v1/journal/export?${query}`}>
          <QuietButton as="span">
            <Trans>As CSV</Trans>
          </QuietButton>
        </a>
      </PageHead>
      <Flex gap="4" mb="5" wrap="wrap" align="start">
        <Entry label={t`By whom`} w="44">
          <Picker of="user" value={asked.by} placeholder={t`anybody`} onChange={(v) => narrow('by', v.trim())} />
        </Entry>
        <Entry label={t`On what`} w="72" help={t`A folder, a path, a user: what the change was about.`}>
          <Picker of="path" value={asked.on} placeholder={t`anything`} onChange={(v) => narrow('on', v.trim())} />
        </Entry>
        <Entry label={t`From`} w="40">
          <Input type="date" value={asked.since} onChange={(e) => narrow('since', e.target.value)} />
        </Entry>
        <Entry label={t`Until`} w="40">
          <Input type="date" value={asked.until} onChange={(e) => narrow('until', e.target.value)} />
        </Entry>
        <LookBack />
      </Flex>
      <JournalRows {...asked} />
    </>
  );
}

/** Leads to the whole console as of a moment. */
function LookBack() {
  const [at, setAt] = useState('');
  return (
    <Entry label={t`All of it as of`} w="64" help={t`Shows who had what then; nothing can be changed.`}>
      <HStack>
        <Input
          type="datetime-local"
          max={new Date().toISOString().slice(0, 16)}
          value={at}
          onChange={(e) => setAt(e.target.value)}
        />
        <QuietButton disabled={!at} onClick={() => lookAt(new Date(at).toISOString())}>
          <Trans>Look</Trans>
        </QuietButton>
      </HStack>
    </Entry>
  );
}
