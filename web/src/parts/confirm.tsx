import { Dialog, HStack, Portal } from '@chakra-ui/react';
import { Trans } from '@lingui/react/macro';
import type { ReactNode } from 'react';
import { MainButton, QuietButton } from './sheet';

/** Says what is about to happen, and asks; act is the button that does it. */
export function Ask(props: {
  title: string;
  children: ReactNode;
  act: ReactNode;
  open: boolean;
  wide?: boolean;
  onClose: () => void;
}) {
  return (
    <Dialog.Root
      role="alertdialog"
      size={props.wide ? 'lg' : undefined}
      open={props.open}
      onOpenChange={(e) => !e.open && props.onClose()}
      // What was found while something was typed goes away by itself, and takes no question with it.
      onRequestDismiss={(e) => e.preventDefault()}
      placement="center"
      scrollBehavior="inside"
    >
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content bg="sheet" color="ink" mx="4">
            <Dialog.Header>
              <Dialog.Title>{props.title}</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body>{props.children}</Dialog.Body>
            <Dialog.Footer>
              <HStack>
                <QuietButton onClick={props.onClose}>
                  <Trans>Leave it</Trans>
                </QuietButton>
                {props.act}
              </HStack>
            </Dialog.Footer>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}

/** Asks about something that touches nobody's access. */
export function Confirm(props: {
  title: string;
  children: ReactNode;
  act: string;
  busy: boolean;
  open: boolean;
  onClose: () => void;
  onAct: () => void;
}) {
  return (
    <Ask
      title={props.title}
      open={props.open}
      onClose={props.onClose}
      act={
        <MainButton bg="shut" loading={props.busy} onClick={props.onAct}>
          {props.act}
        </MainButton>
      }
    >
      {props.children}
    </Ask>
  );
}
