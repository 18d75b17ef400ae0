<script setup lang="ts">
import { BFormSelect, BModal } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import DataForm from '../components/DataForm.vue'
import ProblemNote from '../components/ProblemNote.vue'
import type { Schema } from './fields'

/** Asks for an input, and starts a run with it. */
const props = defineProps<{
  workflow: string
  version: number | undefined
  example: unknown
  /** Of its input. */
  schema: Schema
  kept: Schemas['SampleOut'][]
  unsaved: boolean
  save: () => Promise<number | null>
}>()
const shown = defineModel<boolean>({ required: true })
const router = useRouter()
const input = ref<unknown>({})
const wrong = ref('')
const source = ref('')
const problem = ref<Error | null>(null)
const sources = computed(() => [
  { value: '', text: 'an example made from the input’s description' },
  ...props.kept.map((one) => ({ value: one.name, text: `the kept event ${one.name}` })),
])
function fill(): void {
  const sample = props.kept.find((one) => one.name === source.value)
  input.value = sample ? sample.value : (props.example ?? {})
}
watch(source, fill)
watch(shown, (now) => {
  if (!now) return
  source.value = ''
  problem.value = null
  fill()
})
async function start(): Promise<void> {
  problem.value = null
  if (wrong.value) return
  try {
    const version = props.unsaved ? await props.save() : props.version
    if (version === null) {
      shown.value = false
      return
    }
    const run = await data(api.POST('/api/v1/runs', { body: { workflow: props.workflow, input: input.value ?? null, version } }))
    await router.push(`/runs/${run.id}`)
  } catch (error) {
    problem.value = error as Error
  }
}
</script>

<template>
  <BModal
    v-model="shown"
    title-tag="h2"
    title-class="fs-5"
    title="Start a run"
    size="lg"
    ok-title="Start"
    :ok-disabled="!!wrong"
    cancel-title="Not now"
    @ok.prevent="start">
    <p>{{ unsaved ? 'Your changes are saved first, as a new version.' : `Version ${version} runs with this input.` }}</p>
    <label v-if="sources.length > 1" class="d-block mb-2">
      Input from <BFormSelect v-model="source" :options="sources" size="sm" class="w-auto d-inline-block" />
    </label>
    <DataForm v-if="shown" v-model="input" v-model:wrong="wrong" :schema="schema" word="Input" />
    <ProblemNote v-if="problem" :problem="problem" class="mt-3" />
  </BModal>
</template>
