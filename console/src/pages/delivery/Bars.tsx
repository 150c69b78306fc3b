// Deployments of an environment over time: a bar for each day or week, what went wrong on top, and a line for how long commits took.
import { BarChart, LineChart } from 'echarts/charts';
import { GridComponent, TooltipComponent } from 'echarts/components';
import { init, use } from 'echarts/core';
import { SVGRenderer } from 'echarts/renderers';
import { useEffect, useRef } from 'react';
import type { Schemas } from '../../api/client';
import { sans } from '../../look/palette';
import { age } from '../../parts/words';

use([BarChart, LineChart, GridComponent, TooltipComponent, SVGRenderer]);

const day = (since: string) => since.slice(5, 10);

export default function Bars({ one }: { one: Schemas['InsightView'] }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!place.current) return;
    const color = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
    const chart = init(place.current, undefined, { renderer: 'svg' });
    const axis = { axisLine: { lineStyle: { color: color('rule') } }, axisLabel: { color: color('soft') } };
    const bar = (name: string, data: number[], tone: string) => ({
      name,
      type: 'bar' as const,
      stack: 'all',
      data,
      barMaxWidth: 18,
      itemStyle: { color: color(tone) },
    });
    chart.setOption({
      animation: false,
      textStyle: { fontFamily: sans },
      grid: { left: 28, right: 48, top: 12, bottom: 24 },
      xAxis: { type: 'category', data: one.parts.map((part) => day(part.since)), ...axis },
      yAxis: [
        { type: 'value', minInterval: 1, splitNumber: 3, splitLine: { lineStyle: { color: color('rule') } }, ...axis },
        {
          type: 'value',
          splitNumber: 2,
          splitLine: { show: false },
          axisLabel: { color: color('soft'), formatter: (ms: number) => age(ms) },
        },
      ],
      tooltip: {
        // As a part of the drawing: markup of its own would need styles of its own.
        renderMode: 'richText',
        trigger: 'axis',
        backgroundColor: color('panel'),
        borderColor: color('rule'),
        textStyle: { color: color('ink') },
        valueFormatter: (value: unknown) =>
          typeof value === 'number' && value > 1_000 ? age(value) : String(value ?? '–'),
      },
      series: [
        bar(
          'well',
          one.parts.map((part) => part.well),
          'passed',
        ),
        bar(
          'went wrong',
          one.parts.map((part) => part.failed),
          'failed',
        ),
        {
          name: 'from commit to there',
          type: 'line',
          yAxisIndex: 1,
          data: one.parts.map((part) => part.lead_ms ?? null),
          connectNulls: true,
          symbolSize: 6,
          lineStyle: { color: color('ink'), width: 1.2 },
          itemStyle: { color: color('ink') },
        },
      ],
    });
    const resized = new ResizeObserver(() => chart.resize());
    resized.observe(place.current);
    return () => {
      resized.disconnect();
      chart.dispose();
    };
  }, [one]);
  const told = one.parts
    .filter((part) => part.well + part.failed > 0)
    .map((part) => `${day(part.since)} ${part.well} well, ${part.failed} wrong`)
    .join('; ');
  return (
    <div ref={place} className="plot" role="img" aria-label={`Deployments to ${one.environment}: ${told || 'none'}`} />
  );
}
