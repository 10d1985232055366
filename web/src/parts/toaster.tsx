import { createToaster, Stack, Toast, Toaster as Toasts } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { client, Refusal, undo } from '../api/client';

const toaster = createToaster({ placement: 'bottom-start', pauseOnPageIdle: true, max: 4 });

export const say = (title: string) => toaster.create({ title, type: 'success', duration: 4000 });
/** Says that something was done, and offers to take it back. */
export const sayMade = (title: string, row: number) =>
  toaster.create({
    title,
    type: 'success',
    duration: 9000,
    closable: true,
    action: row > 0 ? { label: t`Take it back`, onClick: () => void takeBack(title, row) } : undefined,
  });

async function takeBack(title: string, row: number) {
  try {
    await undo(row);
    await client.invalidateQueries();
    say(t`Taken back: ${title}`);
  } catch (e) {
    sayRefused(e as Error);
  }
}

export const sayRefused = (error: Error) =>
  toaster.create({
    title: error.message,
    description: error instanceof Refusal && error.next ? t`Next: ${error.next}` : undefined,
    type: 'error',
    duration: 9000,
    closable: true,
  });

export const Toaster = () => (
  <Toasts toaster={toaster} insetInline={{ mdDown: '4' }}>
    {(toast) => (
      <Toast.Root
        width={{ md: 'sm' }}
        bg={toast.type === 'error' ? 'shut.soft' : 'open.soft'}
        color="ink"
        boxShadow="md"
      >
        <Stack gap="1" flex="1">
          <Toast.Title>{toast.title}</Toast.Title>
          {toast.description && <Toast.Description color="ink">{toast.description}</Toast.Description>}
        </Stack>
        {toast.action && (
          <Toast.ActionTrigger color="ink" borderColor="ink">
            {toast.action.label}
          </Toast.ActionTrigger>
        )}
        {toast.closable && <Toast.CloseTrigger color="ink" />}
      </Toast.Root>
    )}
  </Toasts>
);
