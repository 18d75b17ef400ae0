<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, onMounted, ref, useTemplateRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type Finding } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import RecentRuns from '../components/RecentRuns.vue'
import SaveConflict from '../components/SaveConflict.vue'
import TalkPanel from '../components/TalkPanel.vue'
import WaysIn from '../components/WaysIn.vue'
import YamlEditor from '../components/YamlEditor.vue'
import { CannotEdit } from '../edit/changes'
import { renameStep } from '../edit/scope'
import { pathOf } from '../edit/source'
import { insertSteps } from '../edit/steps'
import { setValue } from '../edit/values'
import { FIRST } from '../lib/first'
import { moment } from '../lib/format'
import { every } from '../lib/lists'
import { who } from '../lib/session'
import BenchPane from '../workflow/BenchPane.vue'
import { asText, offers as offersOf } from '../workflow/catalogue'
import { stepOfCurl } from '../workflow/curlCredential'
import { keep, useDraft } from '../workflow/draft'
import FindingList from '../workflow/FindingList.vue'
import { useGuard } from '../workflow/guard'
import { useLanguage } from '../workflow/language'
import { behindRow, marks as marksOf, rows as rowsOf } from '../workflow/rows'
import SampleBar from '../workflow/SampleBar.vue'
import ScriptPane from '../workflow/ScriptPane.vue'
import StartDialog from '../workflow/StartDialog.vue'
import { useStore } from '../workflow/store'
import { shapesOf } from '../workflow/shapes'
import { useTries } from '../workflow/tries'
import WorkflowHead from '../workflow/WorkflowHead.vue'
import TryButtons from '../workflow/TryButtons.vue'

const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const fresh = computed(() => props.name === 'new')
const wanted = computed(() => Number(route.query.version) || undefined)
const place = () => `${who.value ?? ''} ${props.name}`

const draft = useDraft(place, fresh.value ? FIRST : '')
const store = useStore(
  draft,
  () => props.name,
  () => fresh.value,
  place,
)
const tries = useTries(draft)
const language = useLanguage()
const page = useQuery({
  queryKey: ['workflow', () => props.name, wanted],
  enabled: () => !fresh.value,
  queryFn: () => data(api.GET('/api/v1/workflows/{name}', { params: { path: { name: props.name }, query: { version: wanted.value } } })),
})
const kept = useQuery({
  queryKey: ['samples', () => props.name],
  enabled: () => !fresh.value,
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows/{name}/samples', { params: { path: { name: props.name }, query } }))),
})
const events = computed(() => (kept.data.value ?? []).filter((one) => !one.step))

const guard = useGuard(draft, place, () => (fresh.value ? FIRST : draft.saved.value), store.save)
watch(
  page.data,
  (now) => {
    if (!now || (draft.changed.value && draft.text.value)) return
    draft.open(now.text, now.versions[0]?.number, now.checked)
    guard.restore()
  },
  { immediate: true },
)
onMounted(() => {
  if (!fresh.value) return
  guard.restore()
  void draft.check()
})
watch(wanted, () => {
  draft.saved.value = draft.text.value
})

const side = computed<'bench' | 'document'>({
  get: () => (route.query.side === 'document' ? 'document' : 'bench'),
  set: (to) => void router.replace({ query: { ...route.query, side: to === 'document' ? to : undefined } }),
})
const chosen = computed<string>({
  get: () => String(route.query.line ?? ''),
  set: (line) => void router.replace({ query: { ...route.query, line: line || undefined } }),
})
const script = useTemplateRef<{ focus: (path: string) => void; begin: () => void }>('script')
const editor = useTemplateRef<{ goTo: (line: number) => void }>('editor')
const rows = computed(() => (draft.checked.value ? rowsOf(draft.checked.value, draft.source.value) : []))
const marks = computed(() => marksOf(rows.value, draft.checked.value?.findings ?? []))
const states = computed(
  () => new Map(rows.value.flatMap((row) => (tries.states.value.has(row.trace) ? [[row.path, tries.states.value.get(row.trace)!]] : []))),
)
const row = computed(() => rows.value.find((one) => one.path === chosen.value))
const offers = computed(() => offersOf(language.actions.value, language.workflows.value, props.name))
const told = ref('')
const problem = ref<Error | null>(null)
const input = ref<unknown>(undefined)
const sample = ref('')
const known = computed(() => ({ input: input.value, results: tries.results.value, shapes: shapesOf(draft.source.value, language.actions.value) }))
const starting = ref(false)

function go(finding: Finding): void {
  const at = rows.value
    .filter((one) => finding.path === one.path || finding.path.startsWith(`${one.path}.`))
    .sort((a, b) => b.path.length - a.path.length)[0]
  if (at) chosen.value = at.path
  if (side.value === 'document' || !at) {
    side.value = 'document'
    requestAnimationFrame(() => editor.value?.goTo(finding.line))
  }
}
watch(chosen, (path) => {
  const entry = side.value === 'document' ? draft.source.value?.entry(pathOf(path)) : undefined
  if (entry) editor.value?.goTo(draft.text.value.slice(0, entry.line).split('\n').length)
})
async function curl(text: string): Promise<void> {
  problem.value = null
  try {
    const step = await stepOfCurl(text, draft.source.value, language.known.value.credential ?? [])
    await client.invalidateQueries({ queryKey: ['credentials'] })
    draft.edit((source) => {
      const to = behindRow(row.value, source)
      return insertSteps(source, to.list, to.index, asText(step))
    })
    told.value =
      'credential' in (step.with as object) ? `Its secret is kept as the credential ${String((step.with as { credential: string }).credential)}.` : ''
  } catch (error) {
    if (error instanceof CannotEdit) told.value = error.message
    else problem.value = error as Error
  }
}
function rename(name: string): void {
  if (row.value) draft.edit((source) => renameStep(source, pathOf(row.value!.path), name))
}
async function takeTheirs(): Promise<void> {
  store.conflict.value = false
  draft.saved.value = draft.text.value
  keep(place(), null)
  await client.invalidateQueries({ queryKey: ['workflow', props.name] })
}
function saveOver(version: number): void {
  draft.base.value = version
  void store.save()
}
</script>

<template>
  <ProblemNote v-if="page.error.value" :problem="page.error.value" />
  <LoadingLines v-else-if="!fresh && page.isPending.value" />
  <template v-else>
    <WorkflowHead
      :name="name"
      :fresh="fresh"
      :page="page.data.value"
      :draft="draft"
      :side="side"
      @save="store.save"
      @turn="(on) => store.turn(on, page.data.value?.version)"
      @start="starting = true"
      @side="(to) => (side = to)"
      @version="(number) => router.push({ query: number ? { version: String(number) } : {} })"
      @name="(to) => draft.edit((source) => setValue(source, ['workflow'], to))"
      @title="(to) => draft.edit((source) => setValue(source, ['title'], to))" />
    <p v-if="guard.again.value" class="again" role="status">
      What you wrote here {{ moment(guard.again.value) }} and did not save is shown again.
      <button type="button" class="btn btn-link btn-sm p-0" @click="guard.discard">Throw it away</button>
      <button type="button" class="btn btn-link btn-sm p-0 ms-2" @click="guard.again.value = ''">Good</button>
    </p>
    <ProblemNote
      v-for="one in [store.problem.value, draft.problem.value, problem, tries.problem.value].filter((it) => !!it)"
      :key="one!.message"
      :problem="one!" />
    <SaveConflict v-if="store.conflict.value" :name="name" :mine="draft.text.value" @over="saveOver" @take="takeTheirs" />
    <p v-if="store.said.value" role="status" class="said">{{ store.said.value }}</p>
    <p v-if="draft.refusal.value || told" role="status" class="told">{{ draft.refusal.value || told }}</p>

    <div class="both">
      <section aria-label="Script" class="script">
        <h2>Script <button type="button" class="btn btn-link btn-sm" @click="script?.begin()">Add a line</button></h2>
        <ScriptPane
          ref="script"
          v-model:chosen="chosen"
          :draft="draft"
          :rows="rows"
          :marks="marks"
          :states="states"
          :offers="offers"
          @curl="curl"
          @told="(text) => (told = text)" />
        <FindingList :findings="draft.checked.value?.findings ?? []" @go="go" />
      </section>
      <section v-if="side === 'bench'" aria-label="Bench" class="side">
        <h2>Bench</h2>
        <SampleBar
          v-model:input="input"
          v-model:sample="sample"
          :workflow="fresh ? '' : name"
          :example="draft.checked.value?.sample"
          @results="(found) => (tries.results.value = { ...found, ...tries.results.value })">
          <TryButtons :row="row" :rows="rows" :tries="tries" :language="language" :draft="draft" :input="input" :sample="sample" />
        </SampleBar>
        <BenchPane
          :draft="draft"
          :row="row"
          :language="language"
          :tries="tries"
          :known="known"
          :sample="sample"
          :workflow="fresh ? '' : name"
          @rename="rename"
          @chosen="(path) => (chosen = path)" />
        <TalkPanel
          v-if="draft.checked.value?.sound && draft.checked.value.agents.length"
          :text="draft.text.value"
          :agents="draft.checked.value.agents"
          :sample="draft.checked.value.sample"
          :kept="events.map((one) => one.name)"
          class="mt-4" />
      </section>
      <section v-else aria-label="Document" class="side">
        <h2>Document</h2>
        <YamlEditor
          ref="editor"
          :model-value="draft.text.value"
          :findings="draft.checked.value?.findings ?? []"
          @update:model-value="draft.type"
          @save="store.save"
          @undo="draft.undo"
          @redo="draft.redo" />
      </section>
      <section v-if="!fresh" aria-label="Around it" class="around">
        <template v-if="draft.checked.value?.starters.length && !fresh">
          <h2>Ways in</h2>
          <WaysIn :workflow="name" :hooks="draft.checked.value.hooks" :version="page.data.value?.versions[0]?.number ?? 0" />
        </template>
        <RecentRuns v-if="!fresh" :workflow="name" />
      </section>
    </div>
    <StartDialog
      v-model="starting"
      :workflow="name"
      :version="page.data.value?.version"
      :example="draft.checked.value?.sample"
      :kept="events"
      :unsaved="draft.changed.value"
      :save="store.save" />
  </template>
</template>

<style scoped>
.said {
  color: var(--relay-succeeded);
}
.told,
.again {
  color: var(--relay-waiting);
}
.both {
  display: grid;
  grid-template: 'script side' auto 'around side' 1fr / minmax(20rem, 5fr) minmax(20rem, 6fr);
  gap: 0 2rem;
}
.script {
  grid-area: script;
}
.side {
  grid-area: side;
}
.around {
  grid-area: around;
}
.both h2 {
  margin: 1.2rem 0 0.4rem;
}
.both section > h2:first-child {
  margin-top: 0;
}
@media (max-width: 900px) {
  .both {
    grid-template: 'script' 'side' 'around' / minmax(0, 1fr);
  }
}
</style>
