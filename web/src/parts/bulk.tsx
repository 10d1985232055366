import { Field, Flex, HStack, Input, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { type Change, useProfiles } from '../api/client';
import { afterLastDay } from './day';
import { people as howMany, Previewed } from './effect';
import { Pick } from './pick';
import { Picker } from './picker';
import { MainButton, QuietButton, Sheet } from './sheet';

type Act = 'ends' | 'profile' | 'join' | 'mark' | 'disable' | 'enable';

const acts: { act: Act; text: string; takes?: string }[] = [
  { act: 'ends', text: t`end on a day` },
  { act: 'profile', text: t`give a profile` },
  { act: 'join', text: t`put into a group`, takes: 'a group' },
  { act: 'mark', text: t`mark with a label`, takes: 'KEY=VALUE' },
  { act: 'disable', text: t`disable` },
  { act: 'enable', text: t`let work again` },
];

function changeOf(act: Act, name: string, value: string): Change {
  const user = (to: Record<string, unknown>): Change => ({ kind: 'user', act: 'change', of: { name }, with: to });
  switch (act) {
    case 'ends':
      return user({ ends: afterLastDay(value) });
    case 'profile':
      return user({ profile: value });
    case 'join':
      return { kind: 'member', act: 'add', of: { name: value, member: `user:${name}` } };
    case 'mark': {
      const [key = '', ...rest] = value.split('=');
      return user({ labels: { [key]: rest.join('=') } });
    }
    default:
      return user({ disabled: act === 'disable' });
  }
}

/** What is to become of all that are chosen, as one change that is shown first. */
export function Bulk({ names, onDone }: { names: string[]; onDone: () => void }) {
  const profiles = useProfiles();
  const [act, setAct] = useState<Act>('ends');
  const [value, setValue] = useState('');
  const [asking, setAsking] = useState<Change[] | null>(null);
  const takes = acts.find((a) => a.act === act)?.takes;
  const ready = act === 'disable' || act === 'enable' || (act === 'mark' ? /^[^=]+=/.test(value) : value !== '');
  return (
    <Sheet as="section" aria-label={t`What is to become of them`} p="4" mb="4">
      <Flex gap="4" align="end" wrap="wrap">
        <Text fontWeight="700" pb="2">
          {howMany(names.length)}
        </Text>
        <Field.Root w="190px">
          <Field.Label>
            <Trans>What</Trans>
          </Field.Label>
          <Pick
            value={act}
            onChange={(e) => {
              setAct(e.target.value as Act);
              setValue('');
            }}
          >
            {acts.map((a) => (
              <option key={a.act} value={a.act}>
                {a.text}
              </option>
            ))}
          </Pick>
        </Field.Root>
        {act === 'ends' && (
          <Field.Root w="180px">
            <Field.Label>
              <Trans>Last day</Trans>
            </Field.Label>
            <Input type="date" value={value} onChange={(e) => setValue(e.target.value)} />
          </Field.Root>
        )}
        {act === 'profile' && (
          <Field.Root w="200px">
            <Field.Label>
              <Trans>Profile</Trans>
            </Field.Label>
            <Pick value={value} onChange={(e) => setValue(e.target.value)}>
              <option value="">
                <Trans>choose one</Trans>
              </option>
              {(profiles.data ?? []).map((p) => (
                <option key={p.name}>{p.name}</option>
              ))}
            </Pick>
          </Field.Root>
        )}
        {takes && (
          <Field.Root w="200px">
            <Field.Label>{takes === 'KEY=VALUE' ? t`Label` : t`Group`}</Field.Label>
            {takes === 'a group' ? (
              <Picker of="group" placeholder={takes} value={value} onChange={setValue} />
            ) : (
              <Input placeholder={takes} value={value} onChange={(e) => setValue(e.target.value)} />
            )}
          </Field.Root>
        )}
        <HStack>
          <MainButton disabled={!ready} onClick={() => setAsking(names.map((n) => changeOf(act, n, value)))}>
            <Trans>See what it does</Trans>
          </MainButton>
          <QuietButton onClick={onDone}>
            <Trans>Leave them</Trans>
          </QuietButton>
        </HStack>
      </Flex>
      <Previewed
        title={t`Change ${howMany(names.length)}?`}
        act={t`Change them`}
        changes={asking}
        done={t`${howMany(names.length)} changed.`}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          onDone();
        }}
      />
    </Sheet>
  );
}
