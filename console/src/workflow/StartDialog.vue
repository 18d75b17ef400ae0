<script setup lang="ts">
import { BFormSelect, BFormTextarea, BModal } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, Problem, type Schemas } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'

/** Asks for an input, and starts a run with it. */
const props = defineProps<{
  workflow: string
  version: number | undefined
  example: unknown
  kept: Schemas['SampleOut'][]
  unsaved: boolean
  save: () => Promise<number | null>
}>()
const shown = defineModel<boolean>({ required: true })
const router = useRouter()
const input = ref('')
const source = ref('')
const problem = ref<Error | null>(null)
const sources = computed(() => [
  { value: '', text: 'an example made from the input’s description' },
  ...props.kept.map((one) => ({ value: one.name, text: `the kept event ${one.name}` })),
])
function fill(): void {
  const sample = props.kept.find((one) => one.name === source.value)
  input.value = JSON.stringify(sample ? sample.value : (props.example ?? {}), null, 2)
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
  try {
    const given: unknown = JSON.parse(input.value)
    const version = props.unsaved ? await props.save() : props.version
    if (version === null) {
      shown.value = false
      return
    }
    const run = await data(api.POST('/api/v1/runs', { body: { workflow: props.workflow, input: given, version } }))
    await router.push(`/runs/${run.id}`)
  } catch (error) {
    problem.value = error instanceof SyntaxError ? new Problem(0, 'This is not JSON', error.message, 'Correct the input') : (error as Error)
  }
}
</script>

<template>
  <BModal v-model="shown" title="Start a run" size="lg" ok-title="Start" cancel-title="Not now" @ok.prevent="start">
    <p>{{ unsaved ? 'Your changes are saved first, as a new version.' : `Version ${version} runs with this input.` }}</p>
    <label v-if="sources.length > 1" class="d-block mb-2">
      Input from <BFormSelect v-model="source" :options="sources" size="sm" class="w-auto d-inline-block" />
    </label>
    <BFormTextarea v-model="input" rows="12" class="mono" aria-label="Input as JSON" spellcheck="false" />
    <ProblemNote v-if="problem" :problem="problem" class="mt-3" />
  </BModal>
</template>
