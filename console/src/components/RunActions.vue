<script setup lang="ts">
import { BButton, BFormInput, BModal } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, type Run, type Schemas, type Span } from '../api/client'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ run: Run; over: boolean; span: Span | null }>()
const router = useRouter()
const problem = ref<Error | null>(null)
const said = ref('')
const path = computed(() => ({ params: { path: { run_id: props.run.id } } }))
const redoing = ref(false)
const keeping = ref(false)
const kept = ref<Schemas['KeptOut'] | null>(null)
const latest = ref(false)
const name = ref('')

async function act(work: () => Promise<void>): Promise<void> {
  problem.value = null
  try {
    await work()
  } catch (error) {
    problem.value = error as Error
  }
}
const cancel = () => act(async () => void (await data(api.POST('/api/v1/runs/{run_id}/cancel', path.value))))
const rerun = () => act(async () => open(await data(api.POST('/api/v1/runs/{run_id}/rerun', { ...path.value, body: {} }))))
const resume = () => act(async () => open(await data(api.POST('/api/v1/runs/{run_id}/resume', { ...path.value, body: {} }))))
async function open(made: Schemas['KeptOut']): Promise<void> {
  if (made.run) await router.push(`/runs/${made.run}`)
}
async function redo(check: boolean): Promise<Schemas['KeptOut']> {
  const newest = latest.value ? (await data(api.GET('/api/v1/workflows/{name}', { params: { path: { name: props.run.workflow } } }))).version : null
  return data(api.POST('/api/v1/runs/{run_id}/redo', { ...path.value, body: { step: props.span?.path ?? '', version: newest, values: {}, check } }))
}
const ask = () =>
  act(async () => {
    kept.value = await redo(true)
    redoing.value = true
  })
const begin = () =>
  act(async () => {
    redoing.value = false
    await open(await redo(false))
  })
const keep = () =>
  act(async () => {
    const step = props.span?.state === 'succeeded' ? props.span.path : ''
    await data(api.POST('/api/v1/runs/{run_id}/sample', { ...path.value, body: { name: name.value, step } }))
    keeping.value = false
    said.value = `Kept as the sample ${name.value}.`
  })
</script>

<template>
  <div class="actions">
    <BButton v-if="!over" size="sm" variant="outline-danger" @click="cancel">Cancel</BButton>
    <template v-else>
      <BButton size="sm" variant="outline-primary" @click="rerun">Rerun</BButton>
      <BButton v-if="run.state !== 'succeeded'" size="sm" variant="outline-primary" @click="resume">Resume from where it failed</BButton>
      <BButton v-if="span" size="sm" variant="outline-primary" @click="ask">Redo from {{ span.path }}…</BButton>
    </template>
    <BButton size="sm" variant="link" @click="keeping = true">Keep as sample…</BButton>
    <span v-if="said" role="status" class="quiet">{{ said }}</span>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <BModal v-model="redoing" :title="`Redo from ${span?.path}`" ok-title="Redo" @ok="begin">
    <label><input v-model="latest" type="checkbox" @change="ask" /> with the newest version of {{ run.workflow }}</label>
    <p class="lists"><strong>Kept:</strong> {{ kept?.kept.join(', ') || 'nothing' }}</p>
    <p class="lists"><strong>Done anew:</strong> {{ kept?.anew.join(', ') || 'nothing' }}, and what follows</p>
    <p class="quiet">A new run is made; this one stays as it is.</p>
  </BModal>
  <BModal v-model="keeping" title="Keep as sample" ok-title="Keep" :ok-disabled="!name" @ok.prevent="keep">
    <p>{{ span?.state === 'succeeded' ? `What ${span.path} gave` : 'The event' }} is kept for trying steps of {{ run.workflow }}.</p>
    <BFormInput v-model="name" placeholder="a name for it" aria-label="Name of the sample" @keydown.enter.prevent="keep" />
  </BModal>
</template>

<style scoped>
.actions { display: flex; flex-wrap: wrap; gap: 0.5rem; align-items: center; margin-bottom: 1rem; }
.lists { margin: 0.5rem 0; overflow-wrap: anywhere; }
</style>
