<script setup lang="ts">
import { BarController, BarElement, CategoryScale, Chart, LinearScale, Tooltip } from 'chart.js'
import { computed } from 'vue'
import { Bar } from 'vue-chartjs'
import type { Schemas } from '../api/client'
import { theme } from '../lib/theme'
import { hour } from '../lib/times'

/** Runs by the time they began, stacked by how they ended. */
const props = defineProps<{ hours: Schemas['HourOut'][]; step: number }>()
Chart.register(BarController, BarElement, CategoryScale, LinearScale, Tooltip)
const KINDS = [
  ['succeeded', '--relay-succeeded'],
  ['open', '--relay-running'],
  ['cancelled', '--relay-quiet'],
  ['failed', '--relay-failed'],
] as const
const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()
const label = (at: string) => hour(at, props.hours.length * props.step > 24)
const data = computed(() => ({
  labels: props.hours.map((hour) => label(hour.at)),
  datasets: KINDS.map(([kind, name]) => ({
    label: kind,
    data: props.hours.map((hour) => hour[kind]),
    backgroundColor: theme.value && colour(name),
    categoryPercentage: 1,
    barPercentage: 0.9,
  })),
}))
const options = computed(() => {
  const ticks = { color: theme.value && colour('--relay-quiet'), maxRotation: 0, autoSkip: true, autoSkipPadding: 20, precision: 0 }
  return {
    animation: false as const,
    maintainAspectRatio: false,
    interaction: { mode: 'index' as const, intersect: false },
    scales: {
      x: { stacked: true, ticks, grid: { display: false } },
      y: { stacked: true, beginAtZero: true, ticks, grid: { color: colour('--relay-line') } },
    },
  }
})
const sums = computed(() => KINDS.map(([kind]) => `${props.hours.reduce((sum, hour) => sum + hour[kind], 0)} ${kind}`).join(', '))
</script>

<template>
  <div class="chart"><Bar :data="data" :options="options" role="img" :aria-label="`Runs by the time they began: ${sums}`" /></div>
</template>

<style scoped>
.chart {
  position: relative;
  height: 11rem;
}
</style>
