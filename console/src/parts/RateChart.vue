<script setup lang="ts">
// Payload over time, from the run's own events; the line's rate is the ceiling.
import { LineChart } from 'echarts/charts'
import { GridComponent, MarkLineComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { useTheme } from 'vuetify'

import { minutes, say } from '../words'

use([LineChart, GridComponent, MarkLineComponent, CanvasRenderer])

const props = defineProps<{ points: [number, number][]; line: number }>() // seconds, bytes per second
const theme = useTheme()

const option = computed(() => {
  const c = theme.global.current.value.colors
  return {
    animation: false,
    textStyle: { fontFamily: 'Atkinson Hyperlegible' },
    grid: { left: 4, right: 8, top: 14, bottom: 22 },
    xAxis: { type: 'value', min: 0, minInterval: 1, max: 'dataMax', axisLine: { lineStyle: { color: c.outline } }, axisTick: { show: false }, splitLine: { show: false },
      axisLabel: { color: c.muted, fontSize: 13.5, showMinLabel: true, showMaxLabel: true, hideOverlap: true, formatter: (s: number) => minutes(s) } },
    yAxis: { type: 'value', min: 0, max: Math.max(props.line * 1.15, ...props.points.map(([, y]) => y)), show: false },
    series: [{ type: 'line', data: props.points, showSymbol: false, lineStyle: { color: c['sec-written'], width: 2 }, areaStyle: { color: c['tint-blue'], opacity: 1 },
      markLine: { silent: true, symbol: 'none', data: [{ yAxis: props.line }], lineStyle: { color: c.outline, type: 'dashed' },
        label: { position: 'insideEndTop', color: c.muted, fontSize: 13.5, formatter: say('line {1} KiB/s', (props.line / 1024).toFixed(1)) } } }],
  }
})
</script>

<template>
  <v-chart class="chart" :option="option" autoresize role="img" aria-label="Rate over time" />
</template>

<style scoped>
.chart { height: 130px; width: 100%; }
</style>
