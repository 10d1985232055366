import { Input, Text } from '@chakra-ui/react';
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
      say(`What ${h.of} left is being removed: job ${job.id}.`);
    },
    onError: sayRefused,
    onSettled: () => setRemoving(null),
  });
  if (!all.data?.length) return null;
  return (
    <Part title="Kept of people who left" mt="8">
      <DataTable
        rows={all.data}
        rowKey={(h) => `${h.where} ${h.until}`}
        maxH="320px"
        columns={[
          { head: 'Of', cell: (h) => h.of, is: { fontWeight: '600' } },
          { head: 'In', cell: (h) => h.where, is: { fontFamily: 'mono', fontSize: 'sm' } },
          { head: 'Since', cell: (h) => <Moment at={h.since} /> },
          {
            head: 'Until',
            cell: (h) =>
              mayChange ? (
                <Input
                  type="date"
                  size="sm"
                  w="170px"
                  aria-label={`What ${h.of} left is kept until`}
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
                'for good'
              ),
          },
          {
            head: '',
            cell: (h) =>
              mayChange && (
                <QuietButton size="sm" onClick={() => setRemoving(h)}>
                  Remove from disk
                </QuietButton>
              ),
            is: { textAlign: 'end' },
          },
        ]}
      />
      <Previewed
        title="Keep it until then?"
        act="Keep it"
        done="It is kept until then."
        changes={asking}
        onClose={() => setAsking(null)}
        onDone={() => setAsking(null)}
      />
      <Confirm
        title="Remove it from disk?"
        act="Remove it"
        open={removing !== null}
        busy={remove.isPending}
        onClose={() => setRemoving(null)}
        onAct={() => removing && remove.mutate(removing)}
      >
        <Text>
          All that is kept in <b>{removing?.where}</b> goes, for good: that is not taken back.
        </Text>
      </Confirm>
    </Part>
  );
}
