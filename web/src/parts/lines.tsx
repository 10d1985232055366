import { t } from '@lingui/core/macro';
import type { components } from '../api/schema.gen';
import { Command } from './command';
import { DataTable } from './table';

type Line = components['schemas']['StatusLine'];

const worst = ['wrong', 'to mind', 'well'];

/** How things stand, line by line: what is not well first, unless the order is theirs. */
export function Lines({
  label,
  lines,
  inOrder,
  commands,
}: {
  label: string;
  lines: Line[];
  inOrder?: boolean;
  commands?: boolean;
}) {
  const words = { well: t`well`, 'to mind': t`to mind`, wrong: t`wrong` };
  const rows = inOrder ? lines : [...lines].sort((a, b) => worst.indexOf(a.state) - worst.indexOf(b.state));
  return (
    <DataTable
      label={label}
      rows={rows}
      rowKey={(l) => `${l.what} ${l.says}`}
      columns={[
        { head: t`What`, cell: (l) => l.what, is: { fontWeight: '600', whiteSpace: 'nowrap' } },
        {
          head: t`Is`,
          cell: (l) => words[l.state],
          is: (l) => ({
            color: l.state === 'wrong' ? 'shut' : l.state === 'to mind' ? 'accent' : 'open',
            whiteSpace: 'nowrap',
          }),
        },
        {
          head: `-${t`How so`}`,
          cell: (l) => (
            <>
              {l.says}
              {commands && l.next && <Command text={l.next} />}
            </>
          ),
          is: { color: 'faint', whiteSpace: 'normal' },
        },
      ]}
    />
  );
}
