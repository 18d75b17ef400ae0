<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { api, data, type Schemas } from '../api/client'
import DataForm from '../components/DataForm.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { Source } from '../edit/source'
import type { Schema } from './fields'

/** What is adjusted without editing the steps; runs from now on get it. */
const props = defineProps<{ page: Schemas['WorkflowPage'] }>()
const schema = computed(() => (Source.read(props.page.text)?.value(['settings']) ?? {}) as Schema)
const client = useQueryClient()
const value = ref<unknown>({})
const wrong = ref('')
const problem = ref<Error | null>(null)
const said = ref('')
watch(
  () => props.page.settings_tag,
  () => (value.value = { ...props.page.settings }),
  { immediate: true },
)
async function set(): Promise<void> {
  problem.value = null
  said.value = ''
  try {
    const params = { path: { name: props.page.workflow.name }, header: { 'if-match': `"${props.page.settings_tag}"` } }
    await data(api.PUT('/api/v1/workflows/{name}/settings', { params, body: value.value as Record<string, never> }))
    said.value = 'Runs from now on get this.'
    await client.invalidateQueries({ queryKey: ['workflow'] })
  } catch (error) {
    problem.value = error as Error
  }
}
</script>

<template>
  <form v-if="Object.keys(schema.properties ?? {}).length" @submit.prevent="set">
    <h2>Settings</h2>
    <DataForm v-model="value" v-model:wrong="wrong" :schema="{ ...schema, required: [] }" word="Settings" />
    <p v-if="said" role="status" class="said">{{ said }}</p>
    <ProblemNote v-if="problem" :problem="problem" />
    <BButton type="submit" size="sm" variant="outline-primary" class="mt-2" :disabled="!!wrong">Set</BButton>
  </form>
</template>

<style scoped>
.said {
  color: var(--relay-succeeded);
  margin: 0;
}
</style>
