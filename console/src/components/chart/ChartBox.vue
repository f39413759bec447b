<script setup lang="ts">
import type { EChartsCoreOption, EChartsType } from 'echarts/core'
import { useResizeObserver } from '@vueuse/core'
import { onBeforeUnmount, onMounted, shallowRef, useTemplateRef, watch } from 'vue'
import { useTheme } from 'vuetify'

import { saveFrom } from '@/download'

/** A chart. What it shows is said in its label too; nothing in it moves by itself. */
const props = defineProps<{ option: (colours: Colours) => EChartsCoreOption; label: string; height?: number; name?: string }>()
const emit = defineEmits<{ pick: [point: { seriesIndex: number; dataIndex: number }] }>()

export interface Colours {
  text: string
  quiet: string
  line: string
  surface: string
  error: string
  warning: string
  series: string[]
}

const box = useTemplateRef<HTMLElement>('box')
const chart = shallowRef<EChartsType>()
const theme = useTheme()
let gone = false

function colours(): Colours {
  const c = theme.current.value.colors
  const dark = theme.current.value.dark
  return {
    text: dark ? '#e8edf0' : '#1d2529',
    quiet: dark ? '#a9b4ba' : '#5a666d',
    line: dark ? '#39454c' : '#d5dadd',
    surface: String(c.surface),
    error: String(c.error),
    warning: String(c.warning),
    // Distinguished by dash and symbol as well.
    series: dark ? ['#9fc3d3', '#f2c14e', '#c3a6e0', '#8fd19e', '#ffab91', '#b0bec5'] : ['#274654', '#8a5a00', '#6a3d9a', '#2e7d32', '#b3541e', '#607d8b'],
  }
}

function draw() {
  const c = colours()
  chart.value?.setOption({ animation: false, textStyle: { color: c.text, fontFamily: 'inherit' }, ...props.option(c) }, { notMerge: true })
}

onMounted(async () => {
  const { init } = await import('./echarts')
  if (gone || !box.value) return
  const made = init(box.value)
  made.on('click', (e) => emit('pick', { seriesIndex: e.seriesIndex ?? 0, dataIndex: e.dataIndex }))
  chart.value = made
  draw()
})
useResizeObserver(box, () => chart.value?.resize())
watch([() => props.option, () => theme.current.value.dark], draw)
onBeforeUnmount(() => {
  gone = true
  chart.value?.dispose()
})

function png() {
  if (chart.value) saveFrom((props.name ?? 'chart') + '.png', chart.value.getDataURL({ type: 'png', pixelRatio: 2, backgroundColor: colours().surface }))
}
defineExpose({ png })
</script>

<template>
  <div ref="box" role="img" :aria-label="label" :style="{ height: `${height ?? 220}px` }" data-chart />
</template>
