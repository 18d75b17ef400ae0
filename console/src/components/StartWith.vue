<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BFormSelect, BModal } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data } from '../api/client'
import { Source } from '../edit/source'
import { every } from '../lib/lists'
import type { Schema } from '../workflow/fields'
import DataForm from './DataForm.vue'
import ProblemNote from './ProblemNote.vue'

/** Starts a workflow with what stands in a row: columns go into the fields of its input that are called alike. */
const props = defineProps<{ row: Record<string, unknown> }>()
const emit = defineEmits<{ leave: [] }>()
const router = useRouter()
const shown = ref(true)
const chosen = ref('')
const input = ref<unknown>({})
const wrong = ref('')
const problem = ref<Error | null>(null)
const workflows = useQuery({
  queryKey: ['workflows', 'all'],
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows', { params: { query } }))),
})
const names = computed(() => [
  { value: '', text: 'choose a workflow' },
  ...(workflows.data.value ?? []).map((one) => ({ value: one.name, text: `${one.title || one.name}${one.on_version ? '' : ' (off)'}` })),
])
const page = useQuery({
  queryKey: ['workflow', chosen],
  enabled: () => !!chosen.value,
  queryFn: () => data(api.GET('/api/v1/workflows/{name}', { params: { path: { name: chosen.value } } })),
})
const schema = computed(() => {
  const found = page.data.value
  return found && found.workflow.name === chosen.value ? ((Source.read(found.text)?.value(['input']) ?? {}) as Schema) : null
})
watch(schema, (now) => {
  if (!now) return
  const fields = Object.keys(now.properties ?? {})
  input.value = fields.length
    ? Object.fromEntries(fields.filter((name) => name in props.row).map((name) => [name, props.row[name]]))
    : { ...props.row }
})
watch(shown, (now) => !now && emit('leave'))
async function start(): Promise<void> {
  problem.value = null
  try {
    const run = await data(api.POST('/api/v1/runs', { body: { workflow: chosen.value, input: input.value ?? null } }))
    await router.push(`/runs/${run.id}`)
  } catch (error) {
    problem.value = error as Error
  }
}
</script>

<template>
  <BModal
    v-model="shown"
    title="Start a workflow with this row"
    title-tag="h2"
    title-class="fs-5"
    size="lg"
    ok-title="Start"
    :ok-disabled="!schema || !!wrong"
    cancel-title="Not now"
    @ok.prevent="start">
    <BFormSelect v-model="chosen" :options="names" aria-label="Workflow" class="mb-3" />
    <DataForm v-if="schema" v-model="input" v-model:wrong="wrong" :schema="schema" word="Input" />
    <ProblemNote v-if="problem ?? page.error.value" :problem="(problem ?? page.error.value)!" class="mt-3" />
  </BModal>
</template>
