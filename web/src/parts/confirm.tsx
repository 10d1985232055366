import { Dialog, Portal } from '@chakra-ui/react';
import type { ReactNode } from 'react';
import { MainButton, QuietButton } from './sheet';

/** Says what is about to happen, and asks. */
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
    <Dialog.Root
      role="alertdialog"
      open={props.open}
      onOpenChange={(e) => !e.open && props.onClose()}
      placement="center"
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
              <QuietButton onClick={props.onClose}>Leave it</QuietButton>
              <MainButton bg="shut" loading={props.busy} onClick={props.onAct}>
                {props.act}
              </MainButton>
            </Dialog.Footer>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
