<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { BButton, BFormSelect, BFormTextarea, BModal } from 'bootstrap-vue-next'
import { computed, ref, useTemplateRef, watch } from 'vue'
import { onBeforeRouteLeave, RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, Problem, type Line, type Run, type Schemas } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import SaveConflict from '../components/SaveConflict.vue'
import ScriptView from '../components/ScriptView.vue'
import StateMark from '../components/StateMark.vue'
import TalkPanel from '../components/TalkPanel.vue'
import WaysIn from '../components/WaysIn.vue'
import WorkflowMore from '../components/WorkflowMore.vue'
import YamlEditor from '../components/YamlEditor.vue'
import { moment } from '../lib/format'
import { useStream } from '../lib/live'
import { FIRST } from '../lib/first'
import { every } from '../lib/lists'

const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const fresh = computed(() => props.name === 'new')
const wanted = computed(() => Number(route.query.version) || undefined)

const page = useQuery({
  queryKey: ['workflow', () => props.name, wanted],
  enabled: () => !fresh.value,
  queryFn: () => data(api.GET('/api/v1/workflows/{name}', { params: { path: { name: props.name }, query: { version: wanted.value } } })),
})
const recent = useQuery({
  queryKey: ['runs', 'of', () => props.name],
  enabled: () => !fresh.value,
  queryFn: () => data(api.GET('/api/v1/runs', { params: { query: { workflow: props.name, limit: 5 } } })),
})
const look = () => void client.invalidateQueries({ queryKey: ['runs', 'of'] })
useStream('/api/v1/runs/stream', { run: (run) => (run as Run).workflow === props.name && look(), many: look })

const text = ref(fresh.value ? FIRST : '')
const saved = ref('')
const checked = ref<Schemas['CheckedOut'] | null>(null)
const problem = ref<Error | null>(null)
const said = ref('')
const chosen = ref('')
const editor = useTemplateRef<{ goTo: (line: number) => void }>('editor')
const changed = computed(() => text.value !== saved.value)
const mistakes = computed(() => (checked.value?.findings ?? []).filter((f) => f.severity === 'error').length)

watch(
  page.data,
  (now) => {
    if (now && (!changed.value || !text.value)) {
      text.value = saved.value = now.text
      base.value = now.versions[0]?.number
      checked.value = now.checked
    }
  },
  { immediate: true },
)

let timer: number | undefined
let asked = 0
watch(
  text,
  () => {
    window.clearTimeout(timer)
    timer = window.setTimeout(check, 300)
  },
  { immediate: fresh.value },
)

async function check(): Promise<void> {
  const number = ++asked
  try {
    const found = await data(api.POST('/api/v1/workflows/check', { body: { text: text.value } }))
    if (number === asked) checked.value = found
  } catch (error) {
    problem.value = error as Error
  }
}

/** The version that stands behind what is written here; undefined for a new workflow. */
const base = ref<number>()
const conflict = ref(false)
async function save(): Promise<boolean> {
  said.value = ''
  problem.value = null
  try {
    const headers = base.value && !fresh.value ? { 'If-Match': `"${base.value}"` } : {}
    const done = (await data(api.POST('/api/v1/workflows', { body: { text: text.value }, headers } as never))) as Schemas['SavedOut']
    saved.value = text.value
    base.value = done.version
    conflict.value = false
    said.value = `Saved as version ${done.version}.`
    await client.invalidateQueries({ queryKey: ['workflow'] })
    if (fresh.value || done.workflow !== props.name || wanted.value) await router.push(`/workflows/${done.workflow}`)
    return true
  } catch (error) {
    conflict.value = error instanceof Problem && error.status === 412
    problem.value = conflict.value ? null : (error as Error)
    return false
  }
}
function saveOver(version: number): void {
  base.value = version
  void save()
}
async function takeTheirs(): Promise<void> {
  conflict.value = false
  saved.value = text.value
  await client.invalidateQueries({ queryKey: ['workflow', props.name] })
}

async function turn(on: boolean): Promise<void> {
  problem.value = null
  if (on && changed.value && !(await save())) return
  try {
    const version = changed.value ? undefined : page.data.value?.version
    const path = { params: { path: { name: props.name } } }
    const done = on
      ? await data(api.POST('/api/v1/workflows/{name}/on', { ...path, body: { version } }))
      : await data(api.POST('/api/v1/workflows/{name}/off', path))
    said.value = done.on_version ? `On, with version ${done.on_version}.` : 'Off: nothing starts it by itself.'
    await client.invalidateQueries({ queryKey: ['workflow'] })
  } catch (error) {
    problem.value = error as Error
  }
}

const starting = ref(false)
const input = ref('')
const kept = useQuery({
  queryKey: ['samples', () => props.name],
  enabled: () => !fresh.value,
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows/{name}/samples', { params: { path: { name: props.name }, query } }))),
})
const keptEvents = computed(() => (kept.data.value ?? []).filter((s) => !s.step))
const sources = computed(() => [
  { value: '', text: 'an example made from the input’s description' },
  ...keptEvents.value.map((s) => ({ value: s.name, text: `the kept event ${s.name}` })),
])
const source = ref('')
watch(source, (name) => {
  const sample = keptEvents.value.find((s) => s.name === name)
  input.value = JSON.stringify(sample ? sample.value : (checked.value?.sample ?? {}), null, 2)
})
function askInput(): void {
  source.value = ''
  input.value = JSON.stringify(checked.value?.sample ?? {}, null, 2)
  problem.value = null
  starting.value = true
}
const startProblem = ref<Error | null>(null)
async function start(): Promise<void> {
  startProblem.value = null
  try {
    if (changed.value && !(await save())) throw problem.value as Error
    const given: unknown = JSON.parse(input.value)
    const version = (
      await client.fetchQuery({
        queryKey: ['workflow', props.name, undefined],
        queryFn: () => data(api.GET('/api/v1/workflows/{name}', { params: { path: { name: props.name } } })),
      })
    ).version
    const run = await data(api.POST('/api/v1/runs', { body: { workflow: props.name, input: given, version: wanted.value ?? version } }))
    await router.push(`/runs/${run.id}`)
  } catch (error) {
    startProblem.value = error instanceof SyntaxError ? new Problem(0, 'This is not JSON', error.message, 'Correct the input') : (error as Error)
  }
}

function choose(line: Line): void {
  chosen.value = line.path
  const lines = text.value.split('\n')
  const at = lines.findIndex((l) => new RegExp(`step:\\s*${line.step}\\b`).test(l))
  if (at >= 0) editor.value?.goTo(at + 1)
}

const versions = computed(() =>
  (page.data.value?.versions ?? []).map((v) => ({
    value: v.number,
    text: `version ${v.number}${v.on ? ', on' : (page.data.value?.workflow.on_version ?? 0) < v.number ? ', draft' : ''}, ${moment(v.created_at)}`,
  })),
)
const version = computed({
  get: () => page.data.value?.version ?? null,
  set: (number) => void router.push({ query: number === versions.value[0]?.value ? {} : { version: String(number) } }),
})
const isOn = computed(() => page.data.value?.workflow.on_version === page.data.value?.version && !changed.value)

watch(wanted, () => (saved.value = text.value))
onBeforeRouteLeave(() => !changed.value || fresh.value || window.confirm('Leave without saving your changes?'))
</script>

<template>
  <ProblemNote v-if="page.error.value" :problem="page.error.value" />
  <LoadingLines v-else-if="!fresh && page.isPending.value" />
  <template v-else>
    <div class="head">
      <div class="what">
        <h1>{{ checked?.title || checked?.workflow || name }}</h1>
        <p class="quiet">
          {{ (checked?.starters ?? []).join('; ') }}.
          <template v-if="!fresh"
            ><strong v-if="page.data.value?.workflow.on_version">On, with version {{ page.data.value.workflow.on_version }}.</strong
            ><template v-else><strong>Off</strong>: nothing starts it by itself; you still can.</template></template
          >
        </p>
      </div>
      <BFormSelect v-if="!fresh" v-model="version" :options="versions" size="sm" class="versions" aria-label="Version" />
      <div class="acts">
        <BButton variant="outline-primary" :disabled="!changed || mistakes > 0" @click="save">Save</BButton>
        <BButton v-if="!fresh && !isOn" variant="outline-primary" :disabled="mistakes > 0" @click="turn(true)"
          >Switch on{{ page.data.value?.workflow.on_version ? ' with this version' : '' }}</BButton
        >
        <BButton v-if="!fresh && page.data.value?.workflow.on_version" variant="link" @click="turn(false)">Switch off</BButton>
        <BButton v-if="!fresh" variant="primary" :disabled="mistakes > 0" @click="askInput">Start…</BButton>
        <WorkflowMore v-if="!fresh" :name="name" />
      </div>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <SaveConflict v-if="conflict" :name="name" :mine="text" @over="saveOver" @take="takeTheirs" />
    <p v-if="said" role="status" class="said">{{ said }}</p>

    <div class="both">
      <section aria-label="Script">
        <h2>Script</h2>
        <ScriptView v-if="checked?.script.length" :lines="checked.script" :chosen="chosen" @choose="choose" />
        <p v-else class="quiet">The script appears when the document can be read.</p>
        <template v-if="checked?.findings.length">
          <h2>{{ mistakes ? `${mistakes} mistake${mistakes > 1 ? 's' : ''}` : 'To look at' }}</h2>
          <ul class="findings">
            <li v-for="(finding, index) in checked.findings" :key="index">
              <button type="button" class="btn btn-link p-0" @click="editor?.goTo(finding.line)">line {{ finding.line }}</button>
              <span :style="{ color: `var(--relay-${finding.severity === 'error' ? 'failed' : 'waiting'})` }"> {{ finding.message }}.</span>
              {{ finding.fix }}
            </li>
          </ul>
        </template>
        <template v-if="checked?.starters.length && !fresh">
          <h2>Ways in</h2>
          <WaysIn :workflow="name" :hooks="checked.hooks" :version="page.data.value?.versions[0]?.number ?? 0" />
        </template>
        <template v-if="!fresh">
          <h2>Last runs</h2>
          <p v-for="run in recent.data.value?.items" :key="run.id" class="recent">
            <StateMark :state="run.state" /> <RouterLink :to="`/runs/${run.id}`">{{ moment(run.created_at) }}</RouterLink>
            <span class="quiet"> version {{ run.version }}{{ run.subject ? `, about ${run.subject}` : '' }}</span>
          </p>
          <p v-if="recent.data.value && !recent.data.value.items.length" class="quiet">None yet. Start one with a sample input.</p>
        </template>
      </section>
      <section aria-label="Document">
        <h2>Document</h2>
        <YamlEditor ref="editor" v-model="text" :findings="checked?.findings ?? []" @save="save" />
        <TalkPanel
          v-if="checked?.sound && checked.agents.length"
          :text="text"
          :agents="checked.agents"
          :sample="checked.sample"
          :kept="keptEvents.map((one) => one.name)"
          class="mt-4" />
      </section>
    </div>

    <BModal v-model="starting" title="Start a run" size="lg" ok-title="Start" cancel-title="Not now" :ok-disabled="false" @ok.prevent="start">
      <p>{{ changed ? 'Your changes are saved first, as a new version.' : `Version ${page.data.value?.version} runs with this input.` }}</p>
      <label v-if="sources.length > 1" class="d-block mb-2"
        >Input from <BFormSelect v-model="source" :options="sources" size="sm" class="w-auto d-inline-block"
      /></label>
      <BFormTextarea v-model="input" rows="12" class="mono" aria-label="Input as JSON" spellcheck="false" />
      <ProblemNote v-if="startProblem" :problem="startProblem" class="mt-3" />
    </BModal>
  </template>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem 1rem;
  margin-bottom: 0.75rem;
}
.what {
  margin-right: auto;
}
.what p {
  margin: 0;
}
.versions {
  width: auto;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
}
.said {
  color: var(--relay-succeeded);
}
.both {
  display: grid;
  grid-template-columns: minmax(20rem, 5fr) minmax(20rem, 6fr);
  gap: 2rem;
}
.both h2 {
  margin: 1.2rem 0 0.4rem;
}
.both section > h2:first-child {
  margin-top: 0;
}
.findings {
  padding-left: 0;
  list-style: none;
}
.recent {
  margin-bottom: 0.2rem;
}
@media (max-width: 900px) {
  .both {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
