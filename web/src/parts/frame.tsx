import { Alert, Box, Button, Flex, HStack, IconButton, Link, Stack, Text } from '@chakra-ui/react';
import { useMutation } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { NavLink } from 'react-router';
import { api, nowSignedIn, taken, useMe } from '../api/client';
import { useColorMode } from './color-mode';
import {
  FindingIcon,
  FolderIcon,
  GateIcon,
  GroupIcon,
  HostsIcon,
  JournalIcon,
  KeyIcon,
  LeaveIcon,
  LimitIcon,
  MatrixIcon,
  MoonIcon,
  NoticeIcon,
  OverviewIcon,
  PeopleIcon,
  PersonIcon,
  PublishIcon,
  ReviewIcon,
  SettingsIcon,
  SunIcon,
  VolumeIcon,
  WhyIcon,
} from './icons';
import { sayRefused } from './toaster';

/** The pages, in the order of the day's work; what belongs together stands under a name, and can be folded. */
const groups: { name?: string; places: { to: string; text: string; Drawn: typeof FolderIcon }[] }[] = [
  {
    places: [
      { to: '/overview', text: 'Overview', Drawn: OverviewIcon },
      { to: '/folders', text: 'Folders', Drawn: FolderIcon },
      { to: '/volumes', text: 'Volumes', Drawn: VolumeIcon },
      { to: '/publishing', text: 'Publishing', Drawn: PublishIcon },
      { to: '/hosts', text: 'Hosts', Drawn: HostsIcon },
      { to: '/people', text: 'People', Drawn: PersonIcon },
      { to: '/groups', text: 'Groups', Drawn: GroupIcon },
      { to: '/limits', text: 'Limits', Drawn: LimitIcon },
      { to: '/notices', text: 'Notices', Drawn: NoticeIcon },
    ],
  },
  {
    name: 'Access',
    places: [
      { to: '/why', text: 'Why', Drawn: WhyIcon },
      { to: '/who', text: 'Who', Drawn: PeopleIcon },
      { to: '/matrix', text: 'Matrix', Drawn: MatrixIcon },
      { to: '/findings', text: 'Findings', Drawn: FindingIcon },
      { to: '/reviews', text: 'Reviews', Drawn: ReviewIcon },
    ],
  },
  {
    places: [
      { to: '/journal', text: 'Journal', Drawn: JournalIcon },
      { to: '/settings', text: 'Settings', Drawn: SettingsIcon },
    ],
  },
];

/** What there is for who has no role: what is theirs. */
const ofUsers = [
  { to: '/account', text: 'My account', Drawn: KeyIcon },
  { to: '/why', text: 'Why', Drawn: WhyIcon },
];

type Place = (typeof groups)[number]['places'][number];

function Go({ to, text, Drawn }: Place) {
  return (
    <NavLink to={to}>
      {({ isActive }) => (
        <HStack
          gap="2.5"
          px={{ base: '2', sm: '3' }}
          py="1"
          borderRadius="md"
          fontWeight={isActive ? '700' : '500'}
          bg={isActive ? 'accent.soft' : undefined}
          _hover={{ bg: isActive ? 'accent.soft' : 'sunk' }}
        >
          <Drawn boxSize="5" hideBelow="sm" color={isActive ? 'accent' : 'faint'} />
          {text}
        </HStack>
      )}
    </NavLink>
  );
}

function Group({ name, places }: (typeof groups)[number]) {
  const [open, setOpen] = useState(true);
  const folds = name !== undefined;
  return (
    <>
      {folds && (
        <Button
          variant="plain"
          size="xs"
          justifyContent="start"
          px="3"
          mt="2"
          color="faint"
          textTransform="uppercase"
          letterSpacing="0.06em"
          hideBelow="lg"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
        >
          {open ? '▾' : '▸'} {name}
        </Button>
      )}
      {(!folds || open) && places.map((p) => <Go key={p.to} {...p} />)}
    </>
  );
}

/** The frame around every page: where one can go, who one is. */
export function Frame({ children }: { children: ReactNode }) {
  const me = useMe();
  const [mode, toggle] = useColorMode();
  const leave = useMutation({
    mutationFn: () => taken(api.POST('/api/v1/sign-out')),
    onSuccess: () => nowSignedIn(null),
    onError: sayRefused,
  });
  return (
    <Flex minH="100dvh" direction={{ base: 'column', lg: 'row' }}>
      <Link
        href="#content"
        position="absolute"
        left="-999px"
        _focus={{ left: '4', top: '4', bg: 'sheet', p: '2', zIndex: 10 }}
      >
        To the content
      </Link>
      <Flex
        as="header"
        direction={{ base: 'row', lg: 'column' }}
        w={{ lg: '232px' }}
        flexShrink="0"
        px={{ base: '4', lg: '4' }}
        py={{ base: '2', lg: '4' }}
        gap={{ base: '3', lg: '4' }}
        align={{ base: 'center', lg: 'stretch' }}
        borderEndWidth={{ lg: '1px' }}
        borderBottomWidth={{ base: '1px', lg: '0' }}
        borderColor="line"
        position={{ lg: 'sticky' }}
        top="0"
        h={{ lg: '100dvh' }}
      >
        <HStack gap="2.5" px={{ lg: '2' }}>
          <GateIcon open boxSize="8" color="accent" />
          <Text fontWeight="700" lineHeight="1.1" letterSpacing="-0.01em" hideBelow="sm">
            Amber
            <br />
            Gatekeeper
          </Text>
        </HStack>
        <Stack
          as="nav"
          aria-label="Pages"
          direction={{ base: 'row', lg: 'column' }}
          gap="0.5"
          flex="1"
          minW="0"
          minH="0"
          overflowX={{ base: 'auto', lg: 'visible' }}
          overflowY={{ lg: 'auto' }}
        >
          {me.data?.role === 'user'
            ? ofUsers.map((p) => <Go key={p.to} {...p} />)
            : groups.map((g) => <Group key={g.places[0]?.to} {...g} />)}
        </Stack>
        <Flex direction={{ base: 'row', lg: 'column' }} gap="3" align={{ base: 'center', lg: 'stretch' }}>
          <Box px={{ lg: '2' }} hideBelow="sm">
            <NavLink to="/account">
              <Text fontWeight="600" textDecoration="underline" textDecorationColor="line">
                {me.data?.user}
              </Text>
            </NavLink>
            <Text fontSize="sm" color="faint">
              {me.data?.role}
            </Text>
          </Box>
          <HStack gap="1">
            <IconButton
              aria-label={mode === 'dark' ? 'Show in light' : 'Show in dark'}
              variant="ghost"
              color="faint"
              _hover={{ bg: 'sunk', color: 'ink' }}
              onClick={toggle}
            >
              {mode === 'dark' ? <SunIcon /> : <MoonIcon />}
            </IconButton>
            <IconButton asChild variant="ghost" color="faint" _hover={{ bg: 'sunk', color: 'ink' }}>
              <NavLink to="/account" aria-label="My account">
                <KeyIcon />
              </NavLink>
            </IconButton>
            <IconButton
              aria-label="Sign out"
              variant="ghost"
              color="faint"
              _hover={{ bg: 'sunk', color: 'ink' }}
              loading={leave.isPending}
              onClick={() => leave.mutate()}
            >
              <LeaveIcon />
            </IconButton>
          </HStack>
        </Flex>
      </Flex>
      <Box as="main" id="content" flex="1" minW="0" px={{ base: '4', md: '10' }} py={{ base: '6', md: '9' }}>
        <Box maxW="1040px" mx="auto">
          {me.data?.trouble && (
            <Alert.Root status="error" bg="shut.soft" color="ink" mb="6" role="alert">
              <Alert.Indicator color="shut" />
              <Alert.Content>
                <Alert.Title>Nothing can be written down</Alert.Title>
                <Alert.Description>{me.data.trouble}.</Alert.Description>
              </Alert.Content>
            </Alert.Root>
          )}
          {children}
        </Box>
      </Box>
    </Flex>
  );
}
