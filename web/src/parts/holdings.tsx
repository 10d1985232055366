import { Input, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Change, client, type Holding, taken, useHoldings } from '../api/client';
import { Confirm } from './confirm';
import { afterLastDay, enteredDay, lastDay } from './day';
import { Previewed } from './effect';
import { Moment } from './moment';
import { Part, QuietButton } from './sheet';
import { DataTable } from './table';
import { say, sayRefused } from './toaster';

/** What is kept of people who left; nothing where nothing is. */
export function Holdings({ mayChange }: { mayChange: boolean }) {
  const all = useHoldings();
  const [asking, setAsking] = useState<Change[] | null>(null);
  const [removing, setRemoving] = useState<Holding | null>(null);
  const remove = useMutation({
    mutationFn: (h: Holding) => taken(api.DELETE('/api/v1/holdings/{name}', { params: { path: { name: h.where } } })),
    onSuccess: async (job, h) => {
      await client.invalidateQueries();
      say(t`What ${h.of} left is being removed: job ${job.id}.`);
    },
    onError: sayRefused,
    onSettled: () => setRemoving(null),
  });
  if (!all.data?.length) return null;
  return (
    <Part title={t`Kept of people who left`} mt="8">
      <DataTable
        rows={all.data}
        rowKey={(h) => `${h.where} ${h.until}`}
        maxH="320px"
        columns={[
          { head: t`Of`, cell: (h) => h.of, is: { fontWeight: '600' } },
          { head: t`In`, cell: (h) => h.where, is: { fontFamily: 'mono', fontSize: 'sm' } },
          { head: t`Since`, cell: (h) => <Moment at={h.since} /> },
          {
            head: t`Until`,
            cell: (h) =>
              mayChange ? (
                <Input
                  type="date"
                  size="sm"
                  w="170px"
                  aria-label={t`What ${h.of} left is kept until`}
                  defaultValue={h.until ? enteredDay(h.until) : ''}
                  onBlur={(e) =>
                    e.target.value !== (h.until ? enteredDay(h.until) : '') &&
                    setAsking([
                      {
                        kind: 'holding',
                        act: 'change',
                        of: { name: h.where },
                        with: e.target.value ? { until: afterLastDay(e.target.value) } : {},
                      },
                    ])
                  }
                />
              ) : h.until ? (
                lastDay(h.until)
              ) : (
                t`for good`
              ),
          },
          {
            head: '',
            cell: (h) =>
              mayChange && (
                <QuietButton size="sm" onClick={() => setRemoving(h)}>
                  <Trans>Remove from disk</Trans>
                </QuietButton>
              ),
            is: { textAlign: 'end' },
          },
        ]}
      />
      <Previewed
        title={t`Keep it until then?`}
        act={t`Keep it`}
        done={t`It is kept until then.`}
        changes={asking}
        onClose={() => setAsking(null)}
        onDone={() => setAsking(null)}
      />
      <Confirm
        title={t`Remove it from disk?`}
        act={t`Remove it`}
        open={removing !== null}
        busy={remove.isPending}
        onClose={() => setRemoving(null)}
        onAct={() => removing && remove.mutate(removing)}
      >
        <Text>
          <Trans>
            All that is kept in <b>{removing?.where}</b> goes, for good: that is not taken back.
          </Trans>
        </Text>
      </Confirm>
    </Part>
  );
}
