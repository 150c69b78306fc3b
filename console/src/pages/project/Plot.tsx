// One number over runs, as a line: a point a run, its run and value on hover, a click opens the run.
import { LineChart } from 'echarts/charts';
import { GridComponent, TooltipComponent } from 'echarts/components';
import { init, use } from 'echarts/core';
import { SVGRenderer } from 'echarts/renderers';
import { useEffect, useRef } from 'react';
import { useNavigate } from 'react-router';
import type { Schemas } from '../../api/client';
import { sans } from '../../look/palette';

use([LineChart, GridComponent, TooltipComponent, SVGRenderer]);

export default function Plot({ series }: { series: Schemas['SeriesView'] }) {
  const place = useRef<HTMLDivElement>(null);
  const navigate = useNavigate();
  useEffect(() => {
    if (!place.current) return;
    const color = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
    const counts = series.points.every((point) => Number.isInteger(point.value));
    const chart = init(place.current, undefined, { renderer: 'svg' });
    const runs = series.points.map((point) => point.run.split('/').at(-1) ?? '');
    const axis = { axisLine: { lineStyle: { color: color('rule') } }, axisLabel: { color: color('soft') } };
    chart.setOption({
      animation: false,
      textStyle: { fontFamily: sans },
      grid: { left: 44, right: 12, top: 12, bottom: 24 },
      xAxis: { type: 'category', data: runs, ...axis },
      yAxis: {
        type: 'value',
        scale: true,
        splitNumber: 3,
        minInterval: counts ? 1 : undefined,
        splitLine: { lineStyle: { color: color('rule') } },
        ...axis,
      },
      tooltip: {
        // As a part of the drawing: markup of its own would need styles of its own.
        renderMode: 'richText',
        trigger: 'axis',
        backgroundColor: color('panel'),
        borderColor: color('rule'),
        textStyle: { color: color('ink') },
      },
      series: [
        {
          name: series.name,
          type: 'line',
          data: series.points.map((point) => point.value),
          symbolSize: 7,
          lineStyle: { color: color('accent'), width: 1.5 },
          itemStyle: { color: color('accent') },
        },
      ],
    });
    chart.on('click', ({ dataIndex }) => {
      const point = series.points[dataIndex as number];
      if (point) navigate(`/runs/${point.run}`);
    });
    const resized = new ResizeObserver(() => chart.resize());
    resized.observe(place.current);
    return () => {
      resized.disconnect();
      chart.dispose();
    };
  }, [series, navigate]);
  const told = series.points.map((point) => `${point.run} ${point.value}`).join(', ');
  return <div ref={place} className="plot" role="img" aria-label={`${series.name} over runs: ${told}`} />;
}
