<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, data } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { shown } from '../lib/format'
import { moment } from '../lib/times'
import { every } from '../lib/lists'

/** What the lines are tried with: an example, a kept event, or an earlier run’s. */
const props = defineProps<{ workflow: string; example: unknown }>()
const input = defineModel<unknown>('input', { required: true })
const sample = defineModel<string>('sample', { required: true })
const emit = defineEmits<{ results: [found: Record<string, unknown>] }>()
const client = useQueryClient()
const kept = useQuery({
  queryKey: ['samples', () => props.workflow],
  enabled: () => !!props.workflow,
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows/{name}/samples', { params: { path: { name: props.workflow }, query } }))),
})
const runs = useQuery({
  queryKey: ['runs', 'samples', () => props.workflow],
  enabled: () => !!props.workflow,
  queryFn: () => data(api.GET('/api/v1/runs', { params: { query: { workflow: props.workflow, limit: 10 } } })),
})
const events = computed(() => (kept.data.value ?? []).filter((one) => !one.step))
const chosen = ref('')
const looking = ref(false)
const text = ref('')
const fault = ref('')
const problem = ref<Error | null>(null)

function show(value: unknown): void {
  input.value = value
  text.value = shown(value)
}
async function choose(): Promise<void> {
  problem.value = null
  sample.value = ''
  const [kind, ...rest] = chosen.value.split(' ')
  const id = rest.join(' ')
  if (kind === 'kept') {
    sample.value = id
    show(events.value.find((one) => one.name === id)?.value)
  } else if (kind === 'run') {
    try {
      const detail = await data(api.GET('/api/v1/runs/{run_id}', { params: { path: { run_id: id } } }))
      show((detail.event as { data?: unknown }).data)
    } catch (error) {
      problem.value = error as Error
    }
  } else if (kind !== 'written') show(props.example)
}
watch(
  () => JSON.stringify(props.example),
  () => {
    if (!chosen.value) show(props.example)
  },
  { immediate: true },
)
watch(kept.data, (all) =>
  emit('results', Object.fromEntries((all ?? []).filter((one) => one.step).map((one) => [one.step.split('.').at(-1)!, one.value]))),
)
function write(): void {
  fault.value = ''
  try {
    input.value = JSON.parse(text.value) as unknown
    sample.value = ''
    chosen.value = 'written'
  } catch {
    fault.value = 'This is not JSON'
  }
}
async function remove(): Promise<void> {
  const one = events.value.find((other) => other.name === sample.value)
  if (!one) return
  try {
    await data(api.DELETE('/api/v1/workflows/{name}/samples/{sample_id}', { params: { path: { name: props.workflow, sample_id: one.id } } }))
    chosen.value = ''
    await client.invalidateQueries({ queryKey: ['samples'] })
    await choose()
  } catch (error) {
    problem.value = error as Error
  }
}
async function keep(): Promise<void> {
  const name = window.prompt('Keep it under which name?', 'sample')
  if (!name) return
  try {
    await data(
      api.POST('/api/v1/workflows/{name}/samples', { params: { path: { name: props.workflow } }, body: { name, value: input.value, step: '' } }),
    )
    await client.invalidateQueries({ queryKey: ['samples'] })
    chosen.value = `kept ${name}`
    sample.value = name
  } catch (error) {
    problem.value = error as Error
  }
}
</script>

<template>
  <div class="bar">
    <label>
      Sample
      <select v-model="chosen" class="form-select form-select-sm d-inline-block w-auto" aria-label="Sample" @change="choose">
        <option value="">an example made from what it is given</option>
        <option v-if="chosen === 'written'" value="written">what is written below</option>
        <optgroup v-if="events.length" label="Kept">
          <option v-for="one in events" :key="one.id" :value="`kept ${one.name}`">{{ one.name }}</option>
        </optgroup>
        <optgroup v-if="runs.data.value?.items.length" label="What a run was given">
          <option v-for="run in runs.data.value.items" :key="run.id" :value="`run ${run.id}`">
            {{ moment(run.created_at) }} {{ run.subject ?? '' }}
          </option>
        </optgroup>
      </select>
    </label>
    <button type="button" class="btn btn-link btn-sm" :aria-expanded="looking" @click="looking = !looking">
      {{ looking ? 'Close' : 'Look at it' }}
    </button>
    <slot />
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <div v-if="looking" class="mb-2">
    <textarea v-model="text" class="form-control form-control-sm mono" rows="8" aria-label="The sample, as JSON" spellcheck="false" @change="write" />
    <p v-if="fault" class="text-danger" role="alert">{{ fault }}</p>
    <button v-if="workflow" type="button" class="btn btn-link btn-sm p-0" @click="keep">Keep it</button>
    <button v-if="sample" type="button" class="btn btn-link btn-sm p-0 ms-2 text-danger" @click="remove">Remove it</button>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 0.25rem 0.5rem;
  align-items: center;
  margin-bottom: 0.5rem;
}
</style>
