<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { BButton, BFormInput, BModal } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, data } from '../api/client'
import ProblemNote from './ProblemNote.vue'

/** What is seldom done to a workflow: another name, another one like it, away with it. */
const props = defineProps<{ name: string }>()
const router = useRouter()
const client = useQueryClient()
type What = 'rename' | 'duplicate' | 'remove'
const what = ref<What | null>(null)
const other = ref('')
const problem = ref<Error | null>(null)
const said = ref('')
const open = computed({ get: () => what.value !== null, set: (is) => void (is || (what.value = null)) })
const titles: Record<What, string> = { rename: 'Another name', duplicate: 'Make one like it', remove: 'Remove it' }
function ask(which: What): void {
  what.value = which
  other.value = which === 'duplicate' ? `${props.name}-2` : props.name
  problem.value = null
}
async function go(): Promise<void> {
  const path = { params: { path: { name: props.name } } }
  try {
    if (what.value === 'remove') {
      await data(api.DELETE('/api/v1/workflows/{name}', path))
      await router.push('/workflows')
    } else if (what.value === 'rename') {
      const done = await data(api.POST('/api/v1/workflows/{name}/rename', { ...path, body: { name: other.value } }))
      said.value = done.referring.length ? `It is still called ${props.name} in ${done.referring.join(', ')}.` : ''
      await router.push(`/workflows/${done.workflow}`)
    } else {
      const done = await data(api.POST('/api/v1/workflows/{name}/duplicate', { ...path, body: { name: other.value } }))
      await router.push(`/workflows/${done.workflow}`)
    }
    what.value = null
    await client.invalidateQueries({ queryKey: ['workflows'] })
  } catch (error) {
    problem.value = error as Error
  }
}
</script>

<template>
  <BButton variant="link" @click="ask('rename')">Rename…</BButton>
  <BButton variant="link" @click="ask('duplicate')">Duplicate…</BButton>
  <BButton variant="link" class="text-danger" @click="ask('remove')">Remove…</BButton>
  <span v-if="said" role="status" class="said">{{ said }}</span>
  <BModal
    v-model="open"
    title-tag="h2"
    title-class="fs-5"
    :title="what ? titles[what] : ''"
    :ok-title="what === 'remove' ? 'Remove' : what === 'rename' ? 'Rename' : 'Duplicate'"
    :ok-variant="what === 'remove' ? 'danger' : 'primary'"
    cancel-title="Not now"
    @ok.prevent="go">
    <p v-if="what === 'remove'">
      {{ name }} is not started any more, its samples are gone, and its name is free. Its runs stay, and those under way go on to their end.
    </p>
    <template v-else>
      <label class="d-block">Name <BFormInput v-model="other" pattern="[a-z][a-z0-9-]*" autocomplete="off" @keydown.enter.prevent="go" /></label>
      <p class="quiet mt-2">
        {{
          what === 'rename'
            ? 'A new version says so in its text. Workflows that name it are listed afterwards.'
            : 'It is made of the newest version, and is off.'
        }}
      </p>
    </template>
    <ProblemNote v-if="problem" :problem="problem" />
  </BModal>
</template>

<style scoped>
.said {
  color: var(--relay-waiting);
}
</style>
