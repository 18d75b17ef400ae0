<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, data, type Span } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { shown } from '../lib/format'
import { changes } from './compare'

/** What one step was given and gave in two runs, where it is not the same. */
const props = defineProps<{ a: string; b: string; pathA: string; pathB: string }>()
function useRecord(run: () => string, path: () => string) {
  return useQuery({
    queryKey: ['record', run, path],
    enabled: () => !!path(),
    queryFn: () => data(api.GET('/api/v1/runs/{run_id}/record', { params: { path: { run_id: run() }, query: { path: path() } } })),
  })
}
const one = useRecord(
  () => props.a,
  () => props.pathA,
)
const other = useRecord(
  () => props.b,
  () => props.pathB,
)
const problem = computed(() => one.error.value ?? other.error.value)
const ready = computed(() => (!props.pathA || one.data.value) && (!props.pathB || other.data.value))
const part = (span: Span | undefined, name: 'input' | 'output' | 'error') => (span ? (span[name] ?? undefined) : undefined)
const sides = computed(() =>
  (
    [
      ['It was given', 'input'],
      ['It gave', 'output'],
      ['It failed', 'error'],
    ] as const
  ).map(([title, name]) => ({ title, changes: changes(part(one.data.value?.span, name), part(other.data.value?.span, name)) })),
)
const text = (value: unknown) => (value === undefined ? 'nothing' : shown(value))
</script>

<template>
  <ProblemNote v-if="problem" :problem="problem" />
  <LoadingLines v-else-if="!ready" />
  <div v-else class="sides">
    <template v-for="side in sides" :key="side.title">
      <section v-if="side.changes.length">
        <h2>{{ side.title }}</h2>
        <div v-for="change in side.changes" :key="change.path" class="change">
          <span class="mono quiet">{{ change.path || 'all of it' }}</span>
          <pre tabindex="0" aria-label="in the first run">{{ text(change.before) }}</pre>
          <pre tabindex="0" aria-label="in the second run">{{ text(change.after) }}</pre>
        </div>
      </section>
    </template>
    <p v-if="!sides.some((side) => side.changes.length)" class="quiet">It was given and gave the same in both.</p>
  </div>
</template>

<style scoped>
h2 {
  font-size: 0.95rem;
  margin: 0.4rem 0 0.2rem;
}
.change {
  display: grid;
  grid-template-columns: minmax(6rem, 1fr) minmax(0, 3fr) minmax(0, 3fr);
  gap: 0.75rem;
  padding: 0.15rem 0;
  border-top: 1px solid var(--relay-line);
}
.change > .mono {
  overflow-wrap: anywhere;
}
pre {
  max-height: 12rem;
  overflow: auto;
}
@media (max-width: 700px) {
  .change {
    grid-template-columns: minmax(0, 1fr);
    gap: 0.2rem;
  }
}
</style>
