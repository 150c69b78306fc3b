// How long one job took and queued over time: what half of its attempts did not exceed, and nine in ten.
import { LineChart } from 'echarts/charts';
import { GridComponent, LegendComponent, TooltipComponent } from 'echarts/components';
import { init, use } from 'echarts/core';
import { SVGRenderer } from 'echarts/renderers';
import { useEffect, useRef } from 'react';
import type { Schemas } from '../../api/client';
import { sans } from '../../look/palette';
import { duration } from '../../parts/words';
import { jobName, length } from './say';

use([LineChart, GridComponent, LegendComponent, TooltipComponent, SVGRenderer]);

export default function History({ job }: { job: Schemas['JobInsight'] }) {
  const place = useRef<HTMLDivElement>(null);
  const hours = job.parts.length > 1 && new Date(job.parts[1]?.since ?? 0).getUTCHours() !== 0;
  const day = (since: string) => (hours ? since.slice(11, 16) : since.slice(5, 10));
  useEffect(() => {
    if (!place.current) return;
    const color = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
    const chart = init(place.current, undefined, { renderer: 'svg' });
    const axis = { axisLine: { lineStyle: { color: color('rule') } }, axisLabel: { color: color('soft') } };
    const line = (name: string, data: (number | null)[], tone: string, type: 'solid' | 'dashed') => ({
      name,
      type: 'line' as const,
      data,
      connectNulls: true,
      symbolSize: 5,
      lineStyle: { color: color(tone), width: 1.5, type },
      itemStyle: { color: color(tone) },
    });
    chart.setOption({
      animation: false,
      textStyle: { fontFamily: sans },
      legend: { top: 0, left: 60, icon: 'rect', itemHeight: 2, textStyle: { color: color('ink') } },
      grid: { left: 60, right: 12, top: 28, bottom: 24 },
      xAxis: { type: 'category', data: job.parts.map((part) => day(part.since)), ...axis },
      yAxis: {
        type: 'value',
        splitNumber: 3,
        splitLine: { lineStyle: { color: color('rule') } },
        axisLine: { lineStyle: { color: color('rule') } },
        axisLabel: { color: color('soft'), formatter: (ms: number) => duration(ms) },
      },
      tooltip: {
        // As a part of the drawing: markup of its own would need styles of its own.
        renderMode: 'richText',
        trigger: 'axis',
        backgroundColor: color('panel'),
        borderColor: color('rule'),
        textStyle: { color: color('ink') },
        valueFormatter: (value: unknown) => (typeof value === 'number' ? duration(value) : '–'),
      },
      series: [
        line(
          'takes: half',
          job.parts.map((part) => part.took.p50_ms ?? null),
          'accent',
          'solid',
        ),
        line(
          'takes: most',
          job.parts.map((part) => part.took.p90_ms ?? null),
          'accent',
          'dashed',
        ),
        line(
          'queues: half',
          job.parts.map((part) => part.waited.p50_ms ?? null),
          'soft',
          'solid',
        ),
      ],
    });
    const resized = new ResizeObserver(() => chart.resize());
    resized.observe(place.current);
    return () => {
      resized.disconnect();
      chart.dispose();
    };
  });
  const told = job.parts
    .filter((part) => part.passed > 0)
    .map((part) => `${day(part.since)} half ${length(part.took.p50_ms)}, most ${length(part.took.p90_ms)}`)
    .join('; ');
  return (
    <div ref={place} className="plot" role="img" aria-label={`How long ${jobName(job)} took: ${told || 'never'}`} />
  );
}
