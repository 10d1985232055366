import { Box, Combobox, createListCollection, Dialog, HStack, Kbd, Portal, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useEffect, useMemo, useRef, useState } from 'react';
import { useNavigate } from 'react-router';
import type { Me } from '../api/client';
import { type Found, nearest, useFound } from '../api/find';
import { FolderIcon, JournalIcon, PeopleIcon, PersonIcon, ReviewIcon } from './icons';
import { type Place, placeGroups, placesOfUsers } from './places';

type Item = { id: string; text: string; says?: string; Drawn: typeof FolderIcon; to: string };

const pages = (role: Me['role']): Place[] => (role === 'user' ? placesOfUsers : placeGroups.flatMap((g) => g.places));

/** What can be done, besides going somewhere. */
const acts: { text: string; to: string; Drawn: typeof FolderIcon; only?: Me['role'][] }[] = [
  { text: t`Make a folder`, to: '/folders/new', Drawn: FolderIcon, only: ['administrator'] },
  { text: t`Add a person`, to: '/people?add', Drawn: PersonIcon, only: ['administrator', 'operator'] },
  { text: t`Begin a review`, to: '/reviews?begin', Drawn: ReviewIcon, only: ['administrator'] },
  { text: t`Take a change back`, to: '/journal', Drawn: JournalIcon, only: ['administrator', 'operator'] },
  { text: t`Ask why somebody may or may not`, to: '/why', Drawn: PeopleIcon },
];

const opened: Partial<Record<Found['kind'], (name: string) => string>> = {
  user: (n) => `/people/${encodeURIComponent(n)}`,
  group: (n) => `/groups/${encodeURIComponent(n)}`,
  folder: (n) => `/folders/${encodeURIComponent(n)}`,
  review: (n) => `/reviews/${encodeURIComponent(n)}`,
};

const drawn: Partial<Record<Found['kind'], typeof FolderIcon>> = {
  user: PersonIcon,
  group: PeopleIcon,
  folder: FolderIcon,
  review: ReviewIcon,
};

const typing = (e: KeyboardEvent) =>
  e.target instanceof HTMLElement &&
  (e.target.isContentEditable ||
    /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName) ||
    e.target.closest('[role=listbox],[role=menu]') !== null);

/** Where one goes by keys alone: everything by its name after Ctrl-K or /, the pages by g and a letter, and ? for what keys there are. */
export function Palette({ role }: { role: Me['role'] }) {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [keys, setKeys] = useState(false);
  const going = useRef(0);
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k') {
        e.preventDefault();
        setOpen(true);
        return;
      }
      if (e.ctrlKey || e.metaKey || e.altKey || typing(e) || document.querySelector('[role=dialog],[role=alertdialog]'))
        return;
      const went = Date.now() - going.current < 1500;
      going.current = 0;
      const place = went && pages(role).find((p) => p.letter === e.key);
      if (place) navigate(place.to);
      else if (e.key === 'g') going.current = Date.now();
      else if (e.key === '/') setOpen(true);
      else if (e.key === '?') setKeys(true);
      else if (e.key === 'n' && role === 'administrator') navigate('/folders/new');
      else return;
      e.preventDefault();
    };
    document.addEventListener('keydown', press);
    return () => document.removeEventListener('keydown', press);
  }, [role, navigate]);
  return (
    <>
      <Dialog.Root open={open} onOpenChange={(e) => setOpen(e.open)} placement="top" size="md">
        <Portal>
          <Dialog.Backdrop />
          <Dialog.Positioner>
            <Dialog.Content bg="sheet" color="ink" mx="4" aria-label={t`Go to`}>
              {open && <Find role={role} onGo={(to) => [setOpen(false), navigate(to)]} />}
            </Dialog.Content>
          </Dialog.Positioner>
        </Portal>
      </Dialog.Root>
      <Dialog.Root open={keys} onOpenChange={(e) => setKeys(e.open)} placement="center">
        <Portal>
          <Dialog.Backdrop />
          <Dialog.Positioner>
            <Dialog.Content bg="sheet" color="ink" mx="4">
              <Dialog.Header>
                <Dialog.Title>
                  <Trans>Keys</Trans>
                </Dialog.Title>
              </Dialog.Header>
              <Dialog.Body pb="6">
                <Keys role={role} />
              </Dialog.Body>
            </Dialog.Content>
          </Dialog.Positioner>
        </Portal>
      </Dialog.Root>
    </>
  );
}

function Find({ role, onGo }: { role: Me['role']; onGo: (to: string) => void }) {
  const [text, setText] = useState('');
  const looks = role !== 'user' && text.trim() !== '';
  const folders = useFound('folder', text, looks);
  const people = useFound('user', text, looks);
  const groups = useFound('group', text, looks);
  const collection = useMemo(() => {
    const fits = (t: string) => t.toLowerCase().includes(text.trim().toLowerCase());
    // What was found for less of the text is there until more is found: of it counts what still fits.
    const found = looks ? [folders, people, groups].flatMap((some) => nearest(some, text.trim())) : [];
    const items: Item[] = [
      ...pages(role)
        .filter((p) => fits(p.text))
        .map((p) => ({ id: p.to, text: p.text, says: t`g ${p.letter}`, Drawn: p.Drawn, to: p.to })),
      ...acts
        .filter((a) => fits(a.text) && (!a.only || a.only.includes(role)))
        .map((a) => ({ id: a.text, text: a.text, Drawn: a.Drawn, to: a.to })),
      ...found.flatMap((f) => {
        const to = opened[f.kind]?.(f.name);
        return to
          ? [{ id: `${f.kind}:${f.name}`, text: f.name, says: f.says, Drawn: drawn[f.kind] ?? FolderIcon, to }]
          : [];
      }),
    ];
    return createListCollection<Item>({ items, itemToValue: (i) => i.id, itemToString: (i) => i.text });
  }, [text, folders, people, groups, role, looks]);
  // What comes first is what Enter goes to, also where it came after it was asked for.
  const [at, setAt] = useState<string | null>(null);
  const first = collection.items[0]?.id ?? null;
  useEffect(() => setAt(first), [first]);
  return (
    <Combobox.Root
      open
      highlightedValue={at}
      onHighlightChange={(e) => setAt(e.highlightedValue)}
      collection={collection}
      inputValue={text}
      onInputValueChange={(e) => e.reason === 'input-change' && setText(e.inputValue)}
      value={[]}
      onValueChange={(e) => e.items[0] && onGo(e.items[0].to)}
      selectionBehavior="preserve"
      p="3"
    >
      <Combobox.Control>
        <Combobox.Input
          autoFocus
          aria-label={t`Go to`}
          placeholder={t`A page, a folder, a person, a group`}
          bg="sheet"
          onKeyDown={(e) => {
            if (e.key !== 'Enter') return;
            e.preventDefault();
            const to = collection.items.find((i) => i.id === at) ?? collection.items[0];
            if (to) onGo(to.to);
          }}
        />
      </Combobox.Control>
      <Combobox.Content bg="sheet" color="ink" shadow="none" px="0" maxH="50vh" position="static">
        {collection.items.map((i) => (
          <Combobox.Item key={i.id} item={i} _highlighted={{ bg: 'accent.soft' }}>
            <HStack gap="2.5" minW="0" flex="1">
              <i.Drawn boxSize="4.5" color="faint" />
              <Text as="span" fontWeight="600">
                {i.text}
              </Text>
              <Text as="span" color="faint" fontSize="sm" truncate>
                {i.says}
              </Text>
            </HStack>
          </Combobox.Item>
        ))}
        {collection.size === 0 && (
          <Text px="3" py="2" color="faint">
            <Trans>Nothing is called so.</Trans>
          </Text>
        )}
      </Combobox.Content>
    </Combobox.Root>
  );
}

function Keys({ role }: { role: Me['role'] }) {
  const lines: [string[], string][] = [
    [['Ctrl', 'K'], t`go to anything by its name`],
    [['/'], t`the same`],
    [['?'], t`what keys there are`],
    ...(role === 'administrator' ? [[['n'], t`make a folder`] as [string[], string]] : []),
    ...pages(role).map((p): [string[], string] => [['g', p.letter], p.text]),
  ];
  return (
    <Stack as="dl" gap="1.5" columnCount={{ md: 2 }} display="block">
      {lines.map(([k, does]) => (
        <HStack key={does + k.join()} mb="1.5" breakInside="avoid">
          <Box as="dt" w="20">
            {k.map((one) => (
              <Kbd key={one} me="1" bg="sunk" color="ink">
                {one}
              </Kbd>
            ))}
          </Box>
          <Text as="dd">{does}</Text>
        </HStack>
      ))}
    </Stack>
  );
}
