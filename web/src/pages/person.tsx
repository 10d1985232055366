import { Box, Flex, Stack, Text } from '@chakra-ui/react';
import { Link, useParams } from 'react-router';
import { useMe, useUser, useUses } from '../api/client';
import { lastDay } from '../parts/day';
import { AlterLabels } from '../parts/labels';
import { Fact, PageHead, QuietButton, Sheet, Waiting } from '../parts/sheet';
import { InUse, stateOf, UseBar } from '../parts/use';
import { UseLine } from '../parts/use-line';

/** One person: who they are, and what they have in use against each limit. */
export function Person() {
  const { name = '' } = useParams();
  const me = useMe();
  const user = useUser(name);
  const uses = useUses('user', name);
  if (!user.data) return <Waiting error={user.error} />;
  const u = user.data;
  const use = uses.data?.uses.find((one) => one.name === u.name);
  const may = [u.smb && 'SMB', u.nfs && 'NFS'].filter(Boolean).join(', ');
  return (
    <>
      <PageHead title={u.fullName || u.name} text={u.service ? `${u.name}, an account of a program` : u.name}>
        <Link to={`/why?user=${encodeURIComponent(u.name)}`}>
          <QuietButton as="span">Ask why</QuietButton>
        </Link>
      </PageHead>
      <Flex gap="6" mb="8" wrap="wrap">
        <Fact name="uid">{u.uid}</Fact>
        <Fact name="Groups">{u.groups.join(', ') || 'none'}</Fact>
        <Fact name="May use">{may || 'nothing'}</Fact>
        {u.role && <Fact name="Role">{u.role}</Fact>}
        <Fact name="Mail">{u.mail || 'no address: they are not told that a limit is close'}</Fact>
        <Fact name="Labels">
          <AlterLabels
            labels={u.labels}
            list="/people"
            mayChange={me.data?.role === 'administrator'}
            change={(labels) => ({ kind: 'user', act: 'change', of: { name: u.name }, with: { labels } })}
          />
        </Fact>
        {u.disabled && <Fact name="State">disabled</Fact>}
        {u.ends && <Fact name="Last day">{lastDay(u.ends)}</Fact>}
      </Flex>
      <Sheet as="section" aria-label="In use" p="5">
        <Text fontWeight="700" fontSize="lg" mb="3">
          In use
        </Text>
        {!uses.data ? (
          <Waiting error={uses.error} rows={2} />
        ) : !use ? (
          <Text color="faint">Nothing is counted for them, and no limit bears on them.</Text>
        ) : (
          <Stack gap="5">
            <InUse use={use} />
            {use.standings.length === 0 && <Text color="faint">No limit bears on them.</Text>}
            {use.standings.map((s) => (
              <Box key={s.limitId} maxW="560px">
                <Text fontWeight="600" fontSize="sm" mb="1">
                  Limit of {s.subject}
                </Text>
                <UseBar standing={s} />
                {stateOf(s).text && (
                  <Text fontSize="sm" fontWeight="600" color={stateOf(s).bad ? 'shut' : 'accent'}>
                    {stateOf(s).text}
                  </Text>
                )}
              </Box>
            ))}
            <UseLine by="user" name={u.name} days={14} />
          </Stack>
        )}
      </Sheet>
    </>
  );
}
