import type { EChartsCoreOption } from 'echarts/core'

import { rounded, took } from '@/format'

import type { Colours } from './ChartBox.vue'

export interface Line {
  name: string
  points: [number, number][] // ns since the start, value
}

/** What a series says for each of its steps, at the steps' ends. */
export function overTime(values: number[], step: number): [number, number][] {
  return values.map((v, n) => [(n + 1) * step, v])
}

const dashes = ['solid', 'dashed', 'dotted', [8, 3, 2, 3], [12, 4], [3, 3]]
const symbols = ['circle', 'rect', 'triangle', 'diamond', 'pin', 'arrow']

const legendRow = 20

/** The height that a legend of so many lines takes below a drawing, in px. */
export function legendHeight(lines: number): number {
  return lines > 1 ? lines * legendRow : 0
}

/** Lines over the time since a recording began; how many scopes closed in each step stands behind them as bars. */
export function linesOverTime(c: Colours, lines: Line[], unit: string, closings?: [number, number][]): EChartsCoreOption {
  const behind = closings?.some(([, n]) => n > 0)
    ? [{ type: 'bar', name: 'scopes closed', yAxisIndex: 1, data: closings, barMaxWidth: 10, z: 0, itemStyle: { color: c.line } }]
    : []
  return {
    grid: { left: 56, right: behind.length ? 46 : 20, top: 26, bottom: 30 + legendHeight(lines.length + behind.length) },
    // A line for each: names are long.
    legend: lines.length + behind.length > 1 ? { bottom: 0, left: 8, orient: 'vertical', itemGap: 4, textStyle: { color: c.text, lineHeight: legendRow - 4 }, itemHeight: 8 } : undefined,
    tooltip: {
      trigger: 'axis',
      backgroundColor: c.surface,
      textStyle: { color: c.text },
      renderMode: 'richText', // names come from traces: they are never markup
      valueFormatter: (v: unknown) => rounded(Number(v)),
      axisPointer: { label: { formatter: (p: { value: number }) => took(p.value) } },
    },
    xAxis: timeAxis(c),
    yAxis: behind.length ? [valueAxis(c, unit), { ...valueAxis(c, 'closed'), position: 'right' as const, nameTextStyle: { color: c.quiet, align: 'right' as const }, splitLine: { show: false } }] : valueAxis(c, unit),
    series: behind.concat(lines.map((l, n) => ({
      type: 'line',
      name: l.name,
      data: l.points,
      showSymbol: l.points.length < 40,
      symbol: symbols[n % symbols.length],
      symbolSize: 5,
      step: false,
      lineStyle: { width: 2, type: dashes[n % dashes.length], color: c.series[n % c.series.length] },
      itemStyle: { color: c.series[n % c.series.length] },
    })) as never[]),
  }
}

export function timeAxis(c: Colours, name = '') {
  return {
    type: 'value' as const,
    name,
    min: 0,
    max: 'dataMax' as const,
    axisLabel: { color: c.quiet, formatter: (v: number) => took(v) },
    axisLine: { lineStyle: { color: c.line } },
    splitLine: { show: false },
  }
}

export function valueAxis(c: Colours, name: string) {
  return {
    type: 'value' as const,
    name,
    nameTextStyle: { color: c.quiet, align: 'left' as const },
    nameGap: 6,
    minInterval: 1,
    axisLabel: { color: c.quiet, formatter: (v: number) => rounded(v) },
    splitLine: { lineStyle: { color: c.line } },
  }
}
