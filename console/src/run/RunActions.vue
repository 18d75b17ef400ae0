<script setup lang="ts">
import { BButton, BFormInput, BFormTextarea, BModal } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data, type Run, type Schemas } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'

const props = defineProps<{ run: Run; over: boolean; path: string; state: string }>()
const router = useRouter()
const problem = ref<Error | null>(null)
const said = ref('')
const call = computed(() => ({ params: { path: { run_id: props.run.id } } }))
const asking = ref(false)
const keeping = ref(false)
const kept = ref<Schemas['KeptOut'] | null>(null)
const refused = ref<Error | null>(null)
const from = ref('')
const version = ref<number | null>(null)
const versions = ref<{ number: number; words: string }[]>([])
const changing = ref(false)
const input = ref('')
const name = ref('')

async function act(work: () => Promise<void>): Promise<void> {
  problem.value = null
  try {
    await work()
  } catch (error) {
    problem.value = error as Error
  }
}
const cancel = () => act(async () => void (await data(api.POST('/api/v1/runs/{run_id}/cancel', call.value))))
async function again(check: boolean): Promise<Schemas['KeptOut']> {
  const changed = changing.value ? (JSON.parse(input.value) as unknown) : null
  return data(
    api.POST('/api/v1/runs/{run_id}/again', { ...call.value, body: { from: from.value, version: version.value, input: changed, values: {}, check } }),
  )
}
async function look(): Promise<void> {
  refused.value = null
  try {
    kept.value = await again(true)
  } catch (error) {
    kept.value = null
    refused.value = error as Error
  }
}
const ask = () =>
  act(async () => {
    const page = await data(api.GET('/api/v1/workflows/{name}', { params: { path: { name: props.run.workflow } } }))
    const detail = await data(api.GET('/api/v1/runs/{run_id}', call.value))
    const on = page.versions.find((one) => one.on)?.number
    versions.value = page.versions.map((one) => ({
      number: one.number,
      words: [
        `version ${one.number}`,
        one.number === on && 'on now',
        one.number === props.run.version && 'of this run',
        one.number !== on && one === page.versions[0] && 'the newest draft',
      ]
        .filter(Boolean)
        .join(', '),
    }))
    version.value = on ?? page.versions[0]?.number ?? props.run.version
    from.value = props.path ? props.path : props.run.state === 'succeeded' ? 'start' : 'failure'
    if (props.path && props.run.state !== 'succeeded' && props.run.error?.step === props.path) from.value = 'failure'
    input.value = JSON.stringify(detail.event.data, null, 2)
    changing.value = false
    await look()
    asking.value = true
  })
watch([from, version, changing], () => asking.value && look())
const begin = () =>
  act(async () => {
    const made = await again(false)
    asking.value = false
    if (made.run) await router.push(`/runs/${made.run}`)
  })
const keep = () =>
  act(async () => {
    const step = props.state === 'succeeded' ? props.path : ''
    await data(api.POST('/api/v1/runs/{run_id}/sample', { ...call.value, body: { name: name.value, step } }))
    keeping.value = false
    said.value = `Kept as the sample ${name.value}.`
  })
</script>

<template>
  <div class="actions">
    <BButton v-if="!over" size="sm" variant="outline-danger" @click="cancel">Cancel</BButton>
    <BButton v-else size="sm" variant="outline-primary" @click="ask">Run again…</BButton>
    <BButton size="sm" variant="link" @click="keeping = true">Keep as sample…</BButton>
    <span v-if="said" role="status" class="quiet">{{ said }}</span>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <BModal v-model="asking" title-tag="h2" title-class="fs-5" title="Run again" ok-title="Run again" :ok-disabled="!kept" @ok.prevent="begin">
    <fieldset>
      <legend>From</legend>
      <label><input v-model="from" type="radio" value="start" /> the start</label>
      <label v-if="run.state !== 'succeeded'"
        ><input v-model="from" type="radio" value="failure" /> where it failed<span v-if="run.error?.step" class="quiet"
          >, {{ run.error.step }}</span
        ></label
      >
      <label v-if="path"
        ><input v-model="from" type="radio" :value="path" /> the chosen step, <span class="mono">{{ path }}</span></label
      >
    </fieldset>
    <label class="field"
      >With
      <select v-model="version" aria-label="Version" class="form-select form-select-sm">
        <option v-for="one in versions" :key="one.number" :value="one.number">{{ one.words }}</option>
      </select></label
    >
    <label><input v-model="changing" type="checkbox" /> with a changed input</label>
    <BFormTextarea v-if="changing" v-model="input" class="mono" rows="6" aria-label="Changed input" @change="look" />
    <ProblemNote v-if="refused" :problem="refused" />
    <template v-if="kept">
      <p class="lists"><strong>Kept:</strong> {{ kept.kept.join(', ') || 'nothing' }}</p>
      <p class="lists">
        <strong>Done anew:</strong> {{ kept.from === 'start' ? 'everything' : `${kept.anew.join(', ') || kept.step}, and what follows` }}
      </p>
    </template>
    <p class="quiet">A new run is made; this one stays as it is.</p>
  </BModal>
  <BModal v-model="keeping" title-tag="h2" title-class="fs-5" title="Keep as sample" ok-title="Keep" :ok-disabled="!name" @ok.prevent="keep">
    <p>{{ state === 'succeeded' ? `What ${path} gave` : 'The event' }} is kept for trying steps of {{ run.workflow }}.</p>
    <BFormInput v-model="name" placeholder="a name for it" aria-label="Name of the sample" @keydown.enter.prevent="keep" />
  </BModal>
</template>

<style scoped>
.actions {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: center;
  margin-bottom: 1rem;
}
.lists {
  margin: 0.5rem 0;
  overflow-wrap: anywhere;
}
fieldset label {
  display: block;
  overflow-wrap: anywhere;
}
legend {
  font-size: 1rem;
  margin: 0;
}
.field {
  display: block;
  margin: 0.5rem 0;
}
</style>
