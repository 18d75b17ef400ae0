<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { BFormInput, BModal } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { api, data } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { CannotEdit } from '../edit/changes'
import { extractSteps } from '../edit/extract'
import { freeName } from '../edit/scope'
import type { Path } from '../edit/source'
import type { Draft } from './draft'

/** Makes chosen lines a workflow of their own, which is saved, and leaves a line in their place that runs it. */
const props = defineProps<{ draft: Draft; workflow: string }>()
const paths = defineModel<Path[]>('paths', { required: true })
const client = useQueryClient()
const name = ref('')
const problem = ref<Error | null>(null)
const open = computed({ get: () => paths.value.length > 0, set: (is) => void (is || (paths.value = [])) })
watch(paths, (now) => {
  problem.value = null
  const first = now[0] && props.draft.source.value?.value([...now[0], 'step'])
  if (first) name.value = `${props.workflow || 'part'}-${String(first).replace(/_/g, '-')}`
})
const made = computed(() => {
  const { source } = props.draft
  if (!paths.value.length || !source.value) return null
  try {
    return extractSteps(source.value, paths.value, { workflow: name.value, step: freeName(source.value, name.value.replace(/-/g, '_')) })
  } catch (error) {
    if (error instanceof CannotEdit) return error
    throw error
  }
})
async function make(): Promise<void> {
  const found = made.value
  if (!found || found instanceof CannotEdit) return
  try {
    await data(api.POST('/api/v1/workflows', { body: { text: found.text, remark: props.workflow && `lines of ${props.workflow}` } }))
    await client.invalidateQueries({ queryKey: ['workflows'] })
    props.draft.edit(() => found.changes)
    paths.value = []
  } catch (error) {
    problem.value = error as Error
  }
}
</script>

<template>
  <BModal
    v-model="open"
    title="A workflow of their own"
    title-tag="h2"
    title-class="fs-5"
    size="lg"
    ok-title="Make it"
    cancel-title="Not now"
    @ok.prevent="make">
    <label class="d-block">
      Name <BFormInput v-model="name" class="mono" pattern="[a-z][a-z0-9-]*" autocomplete="off" @keydown.enter.prevent="make" />
    </label>
    <p v-if="made instanceof CannotEdit" class="text-danger mt-2" role="alert">{{ made.message }}</p>
    <template v-else-if="made">
      <p class="quiet mt-2">It is saved as this, and a line that runs it stands in the place of the lines. What they use is its input.</p>
      <pre tabindex="0">{{ made.text }}</pre>
    </template>
    <ProblemNote v-if="problem" :problem="problem" />
  </BModal>
</template>

<style scoped>
pre {
  max-height: 20rem;
  padding: 0.5rem;
  background: var(--bs-tertiary-bg);
}
</style>
