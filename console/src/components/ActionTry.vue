<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { shown } from '../lib/format'
import { every } from '../lib/lists'
import { sure } from '../lib/sure'
import type { Schema } from '../workflow/fields'
import ProblemNote from './ProblemNote.vue'
import SchemaForm from './SchemaForm.vue'
import ValueView from './ValueView.vue'

/** An action of a described connector is carried out by hand, really: what it gave, and both sides of the exchange. */
const props = defineProps<{ connector: string; action: Schemas['ActionOut'] }>()
const given = ref<Record<string, unknown>>({})
const done = ref<Schemas['ActionTriedOut'] | null>(null)
const problem = ref<Error | null>(null)
const busy = ref(false)
const stored = useQuery({
  queryKey: ['credentials'],
  queryFn: () => every((query) => data(api.GET('/api/v1/credentials', { params: { query } }))),
})
const known = computed(() => ({ credential: (stored.data.value ?? []).map((one) => one.name) }))
const schema = computed(() => props.action.input as Schema)
watch(
  () => props.action.name,
  () => {
    given.value = {}
    done.value = problem.value = null
  },
)
async function go(): Promise<void> {
  const { name, repeat } = props.action
  if (repeat !== 'safe' && !(await sure(`Carry out ${name}?`, 'It is done really, at the service.', 'Carry it out'))) return
  busy.value = true
  problem.value = done.value = null
  try {
    const body = { action: name, with: given.value }
    done.value = await data(api.POST('/api/v1/connectors/{name}/try', { params: { path: { name: props.connector } }, body }))
  } catch (error) {
    problem.value = error as Error
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="try" :aria-label="`Try ${action.name}`" @submit.prevent="go">
    <SchemaForm :schema="schema" :value="given" :first="action.first" :known="known" @change="(value) => (given = value)" />
    <BButton type="submit" size="sm" variant="primary" :disabled="busy">{{ busy ? 'Trying…' : 'Try it' }}</BButton>
    <ProblemNote v-if="problem" :problem="problem" />
    <div v-if="done" role="status">
      <p>
        <strong :style="{ color: `var(--relay-${done.ok ? 'succeeded' : 'failed'})` }">{{ done.ok ? '✓ works' : `✗ ${done.kind}` }}</strong>
        {{ done.ok ? '' : done.sentence }}
      </p>
      <p v-if="done.fix">What to do: {{ done.fix }}</p>
      <ValueView v-if="done.ok" :value="done.output" :name="action.name" />
      <details v-if="done.exchange">
        <summary>Request and reply</summary>
        <pre v-if="done.exchange.request" tabindex="0">{{ shown(done.exchange.request) }}</pre>
        <pre v-if="done.exchange.response" tabindex="0">{{ shown(done.exchange.response) }}</pre>
      </details>
    </div>
  </form>
</template>

<style scoped>
.try {
  border-left: 3px solid var(--relay-line);
  padding: 0.25rem 0 0.5rem 1rem;
  max-width: 60rem;
}
[role='status'] {
  margin-top: 0.75rem;
}
</style>
