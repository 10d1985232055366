import { Chart, useChart } from '@chakra-ui/charts';
import { Box, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMemo, useState } from 'react';
import { CartesianGrid, Line, LineChart, ReferenceArea, Tooltip, XAxis, YAxis } from 'recharts';
import { i18n, locales } from '#texts';
import { type Throughput, useThroughput } from '../api/live';
import { Waiting } from './sheet';
import { size } from './use';

/** One moment of it, by the second. */
export type Moment = {
  at: number;
  read: number;
  written: number;
  asked: number;
  median: number | null;
  slow: number | null;
};

/** What was asked, at every step: where nothing was, nothing. */
export function stepped(of: Throughput, now = Date.now()): Moment[] {
  const step = of.step * 1000;
  const by = new Map(of.spans.map((s) => [new Date(s.at).getTime(), s]));
  const out: Moment[] = [];
  const first = Math.floor(new Date(of.from).getTime() / step) * step;
  // The span that goes on is not whole.
  const last = Math.min(new Date(of.until).getTime(), now - step);
  for (let at = first; at <= last; at += step) {
    const s = by.get(at);
    out.push({
      at,
      read: (s?.read ?? 0) / of.step,
      written: (s?.written ?? 0) / of.step,
      asked: (s?.operations ?? 0) / of.step,
      median: s?.median ?? null,
      slow: s?.slow ?? null,
    });
  }
  return out;
}

type Shown = { name: keyof Moment; label: string; color: string; dash?: string };

const ms = (n: number) =>
  n >= 1000 ? t`${i18n.number(Math.round(n / 100) / 10)} s` : t`${i18n.number(Math.round(n * 100) / 100)} ms`;
const perSecond = (n: number) => `${size(n)}/s`;
const asked = (n: number) => `${i18n.number(Math.round(n * 10) / 10)}/s`;

/** What was asked at the wire over time; a part of it is chosen by dragging over it. */
export function ThroughputCharts(props: {
  of?: string;
  since: string;
  until?: string;
  brief?: boolean;
  onChoose?: (since: string, until: string) => void;
}) {
  const { of, since, until, onChoose } = props;
  const all = useThroughput({ of, since, until });
  const data = useMemo(() => (all.data ? stepped(all.data) : []), [all.data]);
  if (!all.data) return <Waiting error={all.error} rows={props.brief ? 2 : 4} />;
  const { totals } = all.data;
  const bytes: Shown[] = [
    { name: 'read', label: t`Read`, color: 'accent' },
    { name: 'written', label: t`Written`, color: 'ink', dash: '5 3' },
  ];
  if (all.data.spans.length === 0)
    return (
      <Text color="faint">
        <Trans>Nothing was asked at the wire in that time.</Trans>
      </Text>
    );
  return (
    <Stack gap="4">
      <Drawn
        name={t`Bytes of files by the second`}
        data={data}
        lines={bytes}
        as={perSecond}
        low={props.brief}
        onChoose={onChoose}
      />
      {!props.brief && (
        <>
          <Drawn
            name={t`Requests by the second`}
            data={data}
            lines={[{ name: 'asked', label: t`Requests`, color: 'accent' }]}
            as={asked}
            onChoose={onChoose}
          />
          <Drawn
            name={t`How fast they were answered`}
            data={data}
            lines={[
              { name: 'median', label: t`Half of them within`, color: 'accent' },
              { name: 'slow', label: t`99 of 100 within`, color: 'ink', dash: '5 3' },
            ]}
            as={ms}
            onChoose={onChoose}
          />
        </>
      )}
      <Text fontSize="sm" color="faint">
        <Trans>
          In all {i18n.number(totals.operations)} requests; {size(totals.read)} read, {size(totals.written)} written;
          half of them answered within {ms(totals.median)}, 99 of 100 within {ms(totals.slow)}.
        </Trans>
      </Text>
    </Stack>
  );
}

function Drawn(props: {
  name: string;
  data: Moment[];
  lines: Shown[];
  as: (n: number) => string;
  low?: boolean;
  onChoose?: (since: string, until: string) => void;
}) {
  const { name, data, lines, as, onChoose } = props;
  const chart = useChart({ data, series: lines.map((l) => ({ name: l.name, label: l.label, color: l.color })) });
  const [from, setFrom] = useState<number>();
  const [to, setTo] = useState<number>();
  const days = (data.at(-1)?.at ?? 0) - (data[0]?.at ?? 0) > 24 * 3600 * 1000;
  const clock = (at: number) =>
    new Date(at).toLocaleString(
      locales(),
      days ? { day: 'numeric', month: 'short' } : { hour: '2-digit', minute: '2-digit' },
    );
  const choose = () => {
    if (from !== undefined && to !== undefined && from !== to)
      onChoose?.(new Date(Math.min(from, to)).toISOString(), new Date(Math.max(from, to)).toISOString());
    setFrom(undefined);
    setTo(undefined);
  };
  const at = (e: { activeLabel?: string | number }) =>
    e.activeLabel === undefined ? undefined : Number(e.activeLabel);
  return (
    <Box as="figure" aria-label={name}>
      <Text as="figcaption" fontSize="sm" fontWeight="600" mb="1">
        {name}{' '}
        {lines.map((l) => (
          <Text as="span" key={l.name} ms="3" fontWeight="400" color="faint">
            <Text as="span" aria-hidden color={l.color} fontWeight="700">
              {l.dash ? '┅ ' : '━ '}
            </Text>
            {l.label}
          </Text>
        ))}
      </Text>
      <Chart.Root chart={chart} h={props.low ? '120px' : '150px'} userSelect="none">
        <LineChart
          responsive
          syncId="throughput"
          style={{ width: '100%', height: '100%', cursor: onChoose ? 'crosshair' : undefined }}
          data={data}
          margin={{ left: 0, right: 16, top: 4 }}
          onMouseDown={onChoose && ((e) => setFrom(at(e)))}
          onMouseMove={onChoose && ((e) => from !== undefined && setTo(at(e)))}
          onMouseUp={onChoose && choose}
        >
          <CartesianGrid stroke={chart.color('line')} vertical={false} />
          <XAxis
            dataKey="at"
            type="number"
            domain={['dataMin', 'dataMax']}
            tickFormatter={clock}
            tickLine={false}
            stroke={chart.color('faint')}
            minTickGap={40}
          />
          <YAxis
            domain={[0, 'auto']}
            tickFormatter={(n) => as(Number(n))}
            width={80}
            tickLine={false}
            axisLine={false}
            stroke={chart.color('faint')}
            tickCount={props.low ? 3 : 4}
          />
          <Tooltip
            isAnimationActive={false}
            labelFormatter={(l) =>
              new Date(Number(l)).toLocaleString(locales(), { dateStyle: 'medium', timeStyle: 'medium' })
            }
            formatter={(n, of) => [as(Number(n)), lines.find((l) => l.name === of)?.label ?? '']}
            contentStyle={{ background: chart.color('sheet'), borderColor: chart.color('line') }}
          />
          {lines.map((l) => (
            <Line
              key={l.name}
              dataKey={l.name}
              type="linear"
              dot={false}
              isAnimationActive={false}
              stroke={chart.color(l.color as 'accent')}
              strokeDasharray={l.dash}
              strokeWidth={1.75}
            />
          ))}
          {from !== undefined && to !== undefined && (
            <ReferenceArea x1={from} x2={to} fill={chart.color('accent')} fillOpacity={0.15} />
          )}
        </LineChart>
      </Chart.Root>
    </Box>
  );
}
