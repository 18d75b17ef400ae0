<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, data } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { shown } from '../lib/format'
import type { Row } from './rows'
import type { Tries } from './tries'

/** What a line gave at its last try, or is said to have given. */
const props = defineProps<{ row: Row; tries: Tries; workflow: string }>()
const client = useQueryClient()
const span = computed(() => props.tries.spans.value[props.row.trace])
const known = computed(() => props.row.step in props.tries.results.value)
const text = ref('')
const fault = ref('')
const problem = ref<Error | null>(null)
const said = ref('')
watch(
  () => [props.row.path, props.tries.results.value[props.row.step]],
  () => {
    text.value = known.value ? shown(props.tries.results.value[props.row.step]) : ''
    fault.value = said.value = ''
  },
  { immediate: true },
)
function take(): void {
  fault.value = ''
  try {
    props.tries.put(props.row.step, text.value.trim() ? (JSON.parse(text.value) as unknown) : undefined)
  } catch {
    fault.value = 'This is not JSON: a text stands in quotes'
  }
}
async function keep(): Promise<void> {
  problem.value = null
  try {
    const body = { name: props.row.step, step: props.row.trace, value: props.tries.results.value[props.row.step] }
    await data(api.POST('/api/v1/workflows/{name}/samples', { params: { path: { name: props.workflow } }, body }))
    await client.invalidateQueries({ queryKey: ['samples'] })
    said.value = 'Kept with the workflow.'
  } catch (error) {
    problem.value = error as Error
  }
}
</script>

<template>
  <p v-if="span?.error" class="text-danger">
    {{ span.error.message }}<span v-if="span.error.fix" class="quiet d-block">{{ span.error.fix }}</span>
  </p>
  <p v-else-if="!known" class="quiet">Not tried yet. Try it, or write what it would give, as JSON.</p>
  <label class="w-100">
    <span class="visually-hidden">What it gives, as JSON</span>
    <textarea
      v-model="text"
      class="form-control form-control-sm mono"
      :rows="Math.min(12, Math.max(2, text.split('\n').length))"
      spellcheck="false"
      @change="take" />
  </label>
  <p v-if="fault" class="text-danger" role="alert">{{ fault }}</p>
  <ProblemNote v-if="problem" :problem="problem" />
  <button v-if="known && workflow" type="button" class="btn btn-link btn-sm p-0" @click="keep">Keep it with the workflow</button>
  <span role="status" class="quiet">{{ said }}</span>
</template>
