import { Chart, useChart } from '@chakra-ui/charts';
import { Stack, Text } from '@chakra-ui/react';
import { CartesianGrid, Line, LineChart, ReferenceLine, Tooltip, XAxis, YAxis } from 'recharts';
import { type Use, useHistory } from '../api/client';
import { Waiting } from './sheet';
import { size } from './use';

/** How a use went, as a line, with the limits it is under. */
export function UseLine({ by, name, days }: { by: Use['by']; name: string; days: number }) {
  const history = useHistory(by, name, days);
  if (!history.data) return <Waiting error={history.error} rows={2} />;
  const h = history.data;
  const s = h.standings[0];
  return (
    <Stack gap="2">
      {h.fullAt ? (
        <Text fontSize="sm">
          At its limit on{' '}
          <b>{new Date(h.fullAt).toLocaleDateString('en', { weekday: 'long', day: 'numeric', month: 'long' })}</b>, if
          it goes on as in the last week.
        </Text>
      ) : (
        <Text fontSize="sm" color="faint">
          {s ? 'It does not grow towards its limit.' : 'No limit bears on it.'}
        </Text>
      )}
      {h.samples.length > 2 && <Drawn samples={h.samples} soft={s?.softBytes} hard={s?.hardBytes} />}
    </Stack>
  );
}

function Drawn(props: { samples: { at: string; usedBytes: number }[]; soft?: number; hard?: number }) {
  const chart = useChart({
    data: props.samples.map((p) => ({ at: new Date(p.at).getTime(), use: p.usedBytes })),
    series: [{ name: 'use', label: 'In use', color: 'accent' }],
  });
  const day = (t: number) => new Date(t).toLocaleDateString('en', { day: 'numeric', month: 'short' });
  return (
    <Chart.Root chart={chart} h="200px" aria-label="Use over time">
      <LineChart
        responsive
        style={{ width: '100%', height: '100%' }}
        data={chart.data}
        margin={{ left: 8, right: 24, top: 8 }}
      >
        <CartesianGrid stroke={chart.color('line')} vertical={false} />
        <XAxis
          dataKey="at"
          type="number"
          domain={['dataMin', 'dataMax']}
          tickFormatter={day}
          tickLine={false}
          stroke={chart.color('faint')}
        />
        <YAxis
          domain={[0, 'auto']}
          tickFormatter={(n) => size(n)}
          width={70}
          tickLine={false}
          axisLine={false}
          stroke={chart.color('faint')}
        />
        <Tooltip
          isAnimationActive={false}
          labelFormatter={(t) => new Date(Number(t)).toLocaleString('en', { dateStyle: 'medium', timeStyle: 'short' })}
          formatter={(n) => [size(Number(n)), 'in use']}
          contentStyle={{ background: chart.color('sheet'), borderColor: chart.color('line') }}
        />
        {props.soft !== undefined && (
          <ReferenceLine
            ifOverflow="extendDomain"
            y={props.soft}
            stroke={chart.color('ink')}
            strokeDasharray="4 4"
            label={{ value: 'soft', position: 'insideTopLeft', fill: chart.color('faint') }}
          />
        )}
        {props.hard !== undefined && (
          <ReferenceLine
            ifOverflow="extendDomain"
            y={props.hard}
            stroke={chart.color('ink')}
            label={{ value: 'hard', position: 'insideTopLeft', fill: chart.color('faint') }}
          />
        )}
        <Line
          dataKey="use"
          type="stepAfter"
          dot={false}
          isAnimationActive={false}
          stroke={chart.color('accent')}
          strokeWidth={2}
        />
      </LineChart>
    </Chart.Root>
  );
}
