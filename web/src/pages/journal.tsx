import { Flex, HStack, Input } from '@chakra-ui/react';
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
      <PageHead title="Journal" text="Every change, by whom and when; each follows from the one before">
        <a href={`/api/v1/journal/export?${query}`}>
          <QuietButton as="span">As CSV</QuietButton>
        </a>
      </PageHead>
      <Flex gap="4" mb="5" wrap="wrap" align="start">
        <Entry label="By whom" w="44">
          <Picker of="user" value={asked.by} placeholder="anybody" onChange={(v) => narrow('by', v.trim())} />
        </Entry>
        <Entry label="On what" w="72" help="A folder, a path, a user: what the change was about.">
          <Picker of="path" value={asked.on} placeholder="anything" onChange={(v) => narrow('on', v.trim())} />
        </Entry>
        <Entry label="From" w="40">
          <Input type="date" value={asked.since} onChange={(e) => narrow('since', e.target.value)} />
        </Entry>
        <Entry label="Until" w="40">
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
    <Entry label="All of it as of" w="64" help="Shows who had what then; nothing can be changed.">
      <HStack>
        <Input
          type="datetime-local"
          max={new Date().toISOString().slice(0, 16)}
          value={at}
          onChange={(e) => setAt(e.target.value)}
        />
        <QuietButton disabled={!at} onClick={() => lookAt(new Date(at).toISOString())}>
          Look
        </QuietButton>
      </HStack>
    </Entry>
  );
}
