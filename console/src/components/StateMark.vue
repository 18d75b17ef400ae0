<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ state: string; bare?: boolean }>()
const signs: Record<string, [string, string]> = {
  succeeded: ['✓', 'succeeded'],
  failed: ['✗', 'failed'],
  running: ['▸', 'running'],
  waiting: ['◷', 'waiting'],
  queued: ['·', 'waiting'],
  lost: ['?', 'waiting'],
  'set aside': ['!', 'failed'],
}
const mark = computed(() => signs[props.state] ?? ['–', 'quiet'])
</script>

<template>
  <span class="state" :style="{ color: `var(--relay-${mark[1]})` }" :title="state">
    <span aria-hidden="true">{{ mark[0] }}</span>
    <span :class="{ 'visually-hidden': bare }">{{ bare ? state : ` ${state}` }}</span>
  </span>
</template>

<style scoped>
.state {
  white-space: nowrap;
  font-weight: 550;
}
</style>
