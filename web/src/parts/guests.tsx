import { Box, Flex, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import type { Change } from '../api/client';
import { Previewed } from './effect';
import { Entry, FormEnd, placeRefusal } from './form';
import { PickerField } from './picker';
import { QuietButton } from './sheet';

/** As whom those come in over SMB who have no account. */
export function Guests({ guest, mayChange }: { guest?: string; mayChange: boolean }) {
  const [editing, setEditing] = useState(false);
  return (
    <Box mt="2" fontSize="sm">
      <Flex align="center" gap="3" wrap="wrap">
        <Text color="faint">
          {guest ? (
            <Trans>
              Guests are <Link to={`/people/${encodeURIComponent(guest)}`}>{guest}</Link>, on shares that take them
            </Trans>
          ) : (
            <Trans>Nobody comes in without an account</Trans>
          )}
        </Text>
        {mayChange && !editing && (
          <QuietButton size="xs" aria-label={t`Change who guests are`} onClick={() => setEditing(true)}>
            <Trans>Change</Trans>
          </QuietButton>
        )}
      </Flex>
      {editing && <ChangeGuest guest={guest ?? ''} onDone={() => setEditing(false)} />}
    </Box>
  );
}

function ChangeGuest({ guest, onDone }: { guest: string; onDone: () => void }) {
  const form = useForm({ defaultValues: { guest } });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { control, handleSubmit, formState } = form;
  const [to, setTo] = useState('');
  return (
    <Box
      as="form"
      mt="2"
      onSubmit={handleSubmit((f) => {
        const name = f.guest.trim();
        setTo(name);
        if (name === guest) onDone();
        else setAsking([{ kind: 'service', act: 'switch', of: { protocol: 'smb' }, with: { guest: name } }]);
      })}
    >
      <Flex gap="3" wrap="wrap" align="end">
        <Entry
          label={t`Guests come in as`}
          w="56"
          error={formState.errors.guest}
          help={t`A user for that alone. Empty: nobody comes in.`}
        >
          <PickerField of="user" control={control} name="guest" autoFocus />
        </Entry>
        <FormEnd onCancel={onDone} />
      </Flex>
      <Previewed
        title={to ? t`Have those come in as ${to} who have no account?` : t`Let nobody in without an account?`}
        act={to ? t`Let them in` : t`Let nobody in`}
        changes={asking}
        done={to ? t`Guests are ${to} now, on shares that take them.` : t`Nobody comes in without an account.`}
        onRefused={(e) => placeRefusal(e, form)}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
    </Box>
  );
}
