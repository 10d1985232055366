import { Alert, Box, Button, Flex, HStack, IconButton, Link, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { lazy, type ReactNode, Suspense, useEffect, useRef, useState } from 'react';
import { NavLink, useLocation } from 'react-router';
import { api, nowSignedIn, taken, useMe } from '../api/client';
import { useWatch } from '../api/watch';
import { useColorMode } from './color-mode';
import { GateIcon, KeyIcon, LeaveIcon, MoonIcon, SunIcon } from './icons';
import { PastBanner } from './past-banner';
import { type Place, placeGroups, placesOfUsers } from './places';
import { sayRefused } from './toaster';

// It brings what it is drawn with, and nobody waits for it.
const Palette = lazy(async () => ({ default: (await import('./palette')).Palette }));

function Go({ to, text, Drawn }: Place) {
  return (
    <NavLink to={to}>
      {({ isActive }) => (
        <HStack
          gap="2.5"
          px={{ base: '2', sm: '3' }}
          py={{ base: '1', lg: '0.5' }}
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

function Group({ name, places }: (typeof placeGroups)[number]) {
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
  useWatch();
  // Another page begins at its beginning, for keys and for who hears it as well.
  const content = useRef<HTMLDivElement>(null);
  const at = useLocation().pathname;
  const shown = useRef(at);
  useEffect(() => {
    if (shown.current === at) return;
    shown.current = at;
    window.scrollTo(0, 0);
    if (!content.current?.contains(document.activeElement)) content.current?.focus({ preventScroll: true });
  }, [at]);
  const leave = useMutation({
    mutationFn: () => taken(api.POST('/api/v1/sign-out')),
    onSuccess: () => nowSignedIn(null),
    onError: sayRefused,
  });
  return (
    <>
      <PastBanner />
      {me.data && (
        <Suspense fallback={null}>
          <Palette role={me.data.role} />
        </Suspense>
      )}
      <Flex minH="100dvh" direction={{ base: 'column', lg: 'row' }}>
        <Link
          href="#content"
          position="absolute"
          left="-999px"
          _focus={{ left: '4', top: '4', bg: 'sheet', p: '2', zIndex: 10 }}
        >
          <Trans>To the content</Trans>
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
              <Trans>
                Amber
                <br />
                Gatekeeper
              </Trans>
            </Text>
          </HStack>
          <Stack
            as="nav"
            aria-label={t`Pages`}
            direction={{ base: 'row', lg: 'column' }}
            gap="0.5"
            flex="1"
            minW="0"
            minH="0"
            overflowX={{ base: 'auto', lg: 'visible' }}
            overflowY={{ lg: 'auto' }}
          >
            {me.data?.role === 'user'
              ? placesOfUsers.map((p) => <Go key={p.to} {...p} />)
              : placeGroups.map((g) => <Group key={g.places[0]?.to} {...g} />)}
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
                aria-label={mode === 'dark' ? t`Show in light` : t`Show in dark`}
                variant="ghost"
                color="faint"
                _hover={{ bg: 'sunk', color: 'ink' }}
                onClick={toggle}
              >
                {mode === 'dark' ? <SunIcon /> : <MoonIcon />}
              </IconButton>
              <IconButton asChild variant="ghost" color="faint" _hover={{ bg: 'sunk', color: 'ink' }}>
                <NavLink to="/account" aria-label={t`My page`}>
                  <KeyIcon />
                </NavLink>
              </IconButton>
              <IconButton
                aria-label={t`Sign out`}
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
        <Box
          as="main"
          id="content"
          ref={content}
          tabIndex={-1}
          outline="none"
          flex="1"
          minW="0"
          px={{ base: '4', md: '10' }}
          py={{ base: '6', md: '9' }}
        >
          <Box maxW="1040px" mx="auto">
            {me.data?.trouble && (
              <Alert.Root status="error" bg="shut.soft" color="ink" mb="6" role="alert">
                <Alert.Indicator color="shut" />
                <Alert.Content>
                  <Alert.Title>
                    <Trans>Nothing can be written down</Trans>
                  </Alert.Title>
                  <Alert.Description>{me.data.trouble}.</Alert.Description>
                </Alert.Content>
              </Alert.Root>
            )}
            {children}
          </Box>
        </Box>
      </Flex>
    </>
  );
}
