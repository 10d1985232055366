import { Chart, useChart } from '@chakra-ui/charts';
import { Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { CartesianGrid, Line, LineChart, ReferenceLine, Tooltip, XAxis, YAxis } from 'recharts';
import { locales } from '#texts';
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
          <Trans>
            At its limit on{' '}
            <b>
              {new Date(h.fullAt).toLocaleDateString(locales(), { weekday: 'long', day: 'numeric', month: 'long' })}
            </b>
            , if it goes on as in the last week.
          </Trans>
        </Text>
      ) : (
        <Text fontSize="sm" color="faint">
          {s ? t`It does not grow towards its limit.` : t`No limit bears on it.`}
        </Text>
      )}
      {h.samples.length > 2 && <Drawn samples={h.samples} soft={s?.softBytes} hard={s?.hardBytes} />}
    </Stack>
  );
}

function Drawn(props: { samples: { at: string; usedBytes: number }[]; soft?: number; hard?: number }) {
  const chart = useChart({
    data: props.samples.map((p) => ({ at: new Date(p.at).getTime(), use: p.usedBytes })),
    series: [{ name: 'use', label: t`In use`, color: 'accent' }],
  });
  const day = (t: number) => new Date(t).toLocaleDateString(locales(), { day: 'numeric', month: 'short' });
  return (
    <Chart.Root chart={chart} h="200px" aria-label={t`Use over time`}>
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
          labelFormatter={(t) =>
            new Date(Number(t)).toLocaleString(locales(), { dateStyle: 'medium', timeStyle: 'short' })
          }
          formatter={(n) => [size(Number(n)), t`in use`]}
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
