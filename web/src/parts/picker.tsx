import { Combobox, createListCollection, HStack, Portal, Text, useCombobox } from '@chakra-ui/react';
import { useEffect, useMemo, useRef, useState } from 'react';
import { type Control, Controller, type FieldValues, type Path, type RegisterOptions } from 'react-hook-form';
import { type Found, nearest, type Sought, useFound } from '../api/find';
import { EveryoneIcon, FolderIcon, HostsIcon, PeopleIcon, PersonIcon, ReviewIcon } from './icons';

const icons: Record<Sought, typeof PersonIcon> = {
  user: PersonIcon,
  group: PeopleIcon,
  who: EveryoneIcon,
  folder: FolderIcon,
  path: FolderIcon,
  host: HostsIcon,
  review: ReviewIcon,
};

/** The word that is being typed, and what stands before it. */
export function lastWord(text: string): [before: string, word: string] {
  const at = Math.max(text.lastIndexOf(','), text.lastIndexOf(' '));
  return [text.slice(0, at + 1), text.slice(at + 1)];
}

export type PickerProps = {
  /** What is looked for in the service while one types. */
  of: Sought;
  value: string;
  onChange: (value: string) => void;
  /** Several names, with commas between them. */
  several?: boolean;
  placeholder?: string;
  autoFocus?: boolean;
  mono?: boolean;
  size?: 'xs' | 'sm' | 'md';
  onBlur?: () => void;
  ref?: React.Ref<HTMLInputElement>;
  'aria-label'?: string;
  /** A list to choose from is shown from now on, or no longer. */
  onChoosing?: (now: boolean) => void;
  /** It stands in a dialog, and what is found has to stay there. */
  inDialog?: boolean;
};

/** A user, a group, a folder, a path or a host set, found by what is typed of it; what is not found can be written as well. */
export function Picker({
  of,
  value,
  onChange,
  several,
  size,
  mono,
  inDialog,
  onBlur,
  onChoosing,
  autoFocus,
  ...input
}: PickerProps) {
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState(value);
  const [before, word] = several ? lastWord(typed) : ['', typed];
  const found = useFound(of, word, open);
  const collection = useMemo(() => {
    const fits = nearest(found, word); // what was found for less of it is there until more is found
    const items = fits.length === 1 && fits[0]?.name === word ? [] : fits;
    return createListCollection<Found>({
      items,
      itemToValue: (f) => `${f.kind}:${f.name}`,
      itemToString: (f) => f.name,
    });
  }, [found, word]);
  // What stands in the field is the field's own, so that nothing is lost of what is typed fast; who uses it hears of it.
  const told = useRef(value);
  const tell = (text: string) => {
    told.current = text;
    setTyped(text);
    onChange(text);
  };
  const box = useCombobox({
    collection,
    defaultInputValue: value,
    value: [],
    allowCustomValue: true,
    selectionBehavior: 'preserve',
    openOnClick: true,
    autoFocus,
    onOpenChange: (e) => setOpen(e.open),
    onInputValueChange: (e) => {
      if (e.inputValue !== told.current) tell(e.inputValue);
    },
    onValueChange: (e) => {
      if (e.items[0]) choose(e.items[0].name);
    },
    positioning: { sameWidth: false, placement: 'bottom-start' },
  });
  const { setInputValue } = box;
  function choose(name: string) {
    const text = several ? `${before}${before && !before.endsWith(' ') ? ' ' : ''}${name}, ` : name;
    tell(text);
    box.setInputValue(text);
  }
  const choosing = open && collection.size > 0;
  useEffect(() => {
    if (choosing) onChoosing?.(true);
    return () => {
      if (choosing) onChoosing?.(false);
    };
  }, [choosing, onChoosing]);
  useEffect(() => {
    if (value === told.current) return; // it comes from here
    told.current = value;
    setTyped(value);
    setInputValue(value);
  }, [value, setInputValue]);
  return (
    <Combobox.RootProvider value={box} size={size} lazyMount unmountOnExit>
      <Combobox.Control>
        <Combobox.Input
          autoComplete="off"
          spellCheck={false}
          bg="sheet"
          {...(mono && { fontFamily: 'mono', fontSize: 'sm' })}
          {...input}
          onBlur={onBlur}
        />
      </Combobox.Control>
      <Portal disabled={inDialog}>
        <Combobox.Positioner>
          <Combobox.Content bg="sheet" color="ink" minW="56" maxW="96" hidden={collection.size === 0}>
            {collection.items.map((item) => {
              const Drawn = icons[item.kind];
              return (
                <Combobox.Item
                  key={`${item.kind}:${item.name}`}
                  item={item}
                  _highlighted={{ bg: 'accent.soft' }}
                  // Chosen as the button goes down: more may be found before it comes up, and the list move from under it.
                  onMouseDown={(e) => {
                    if (e.button !== 0) return;
                    e.preventDefault();
                    choose(item.name);
                    box.setOpen(false);
                  }}
                >
                  <HStack gap="2" minW="0">
                    <Drawn boxSize="4" color="faint" />
                    <Text as="span" fontWeight="600" fontFamily={item.kind === 'path' ? 'mono' : undefined}>
                      {item.name}
                    </Text>
                    <Text as="span" color="faint" fontSize="sm" truncate>
                      {item.says}
                    </Text>
                  </HStack>
                </Combobox.Item>
              );
            })}
          </Combobox.Content>
        </Combobox.Positioner>
      </Portal>
    </Combobox.RootProvider>
  );
}

/** The same as a field of a form. */
export function PickerField<T extends FieldValues>({
  control,
  name,
  rules,
  ...picker
}: Omit<PickerProps, 'value' | 'onChange' | 'onBlur' | 'ref'> & {
  control: Control<T>;
  name: Path<T>;
  rules?: RegisterOptions<T, Path<T>>;
}) {
  return (
    <Controller
      control={control}
      name={name}
      rules={rules as never}
      render={({ field }) => (
        <Picker {...picker} value={field.value ?? ''} onChange={field.onChange} onBlur={field.onBlur} ref={field.ref} />
      )}
    />
  );
}
