<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, defineAsyncComponent, onMounted, ref, useTemplateRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import RecentRuns from '../components/RecentRuns.vue'
import SaveConflict from '../components/SaveConflict.vue'
import TalkPanel from '../components/TalkPanel.vue'
import VersionList from '../components/VersionList.vue'
import WaysIn from '../components/WaysIn.vue'
import { renameStep } from '../edit/scope'
import { nameKey, type Path, pathOf } from '../edit/source'
import { setValue } from '../edit/values'
import { moment } from '../lib/times'
import { useLater } from '../lib/later'
import { every } from '../lib/lists'
import { useFinds } from '../lib/seeking'
import { who } from '../lib/session'
import { beginningOf, useBeginning } from '../workflow/beginning'
import BenchPane from '../workflow/BenchPane.vue'
import { type Offer, offers as offersOf } from '../workflow/catalogue'
import { usePastedCurl } from '../workflow/curlCredential'
import { keep, useDraft } from '../workflow/draft'
import type { Schema } from '../workflow/fields'
import ExtractDialog from '../workflow/ExtractDialog.vue'
import FindingList from '../workflow/FindingList.vue'
import { useGuard } from '../workflow/guard'
import { useLanguage } from '../workflow/language'
import { marks as marksOf, rows as rowsOf } from '../workflow/rows'
import SampleBar from '../workflow/SampleBar.vue'
import ScriptPane from '../workflow/ScriptPane.vue'
import StartDialog from '../workflow/StartDialog.vue'
import { useSides } from '../workflow/sides'
import { useStore } from '../workflow/store'
import SettingsForm from '../workflow/SettingsForm.vue'
import { shapesOf } from '../workflow/shapes'
import { provideTaking } from '../workflow/taking'
import { useTries } from '../workflow/tries'
import WorkflowHead from '../workflow/WorkflowHead.vue'
import TryButtons from '../workflow/TryButtons.vue'

const YamlEditor = defineAsyncComponent(() => import('../components/YamlEditor.vue'))
const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const fresh = computed(() => props.name === 'new')
const wanted = computed(() => Number(route.query.version) || undefined)
const first = beginningOf(route.query.kind)
const place = () => `${who.value ?? ''} ${props.name}${fresh.value && route.query.kind === 'agent' ? ' agent' : ''}`

provideTaking()
const draft = useDraft(place, fresh.value ? first : '')
const store = useStore(
  draft,
  () => props.name,
  () => fresh.value,
  place,
)
const tries = useTries(draft)
const language = useLanguage()
if (fresh.value) useBeginning(draft, language)
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

const guard = useGuard(draft, place, () => (fresh.value ? first : draft.saved.value), store.save)
watch(
  page.data,
  (now) => {
    if (!now || (draft.changed.value && draft.text.value)) return
    draft.open(now.text, { version: now.version, newest: now.versions[0]?.number }, now.checked)
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

const script = useTemplateRef<{ focus: (path: string) => void; begin: () => void; take: (offer: Offer) => void }>('script')
const editor = useTemplateRef<{ goTo: (line: number, quietly?: boolean) => void }>('editor')
const rows = computed(() => (draft.checked.value ? rowsOf(draft.checked.value, draft.readable.value) : []))
const { side, chosen, at, go } = useSides(draft, () => rows.value, editor)
const marks = computed(() => marksOf(rows.value, draft.checked.value?.findings ?? []))
const states = computed(
  () => new Map(rows.value.flatMap((row) => (tries.states.value.has(row.trace) ? [[row.path, tries.states.value.get(row.trace)!]] : []))),
)
const row = computed(() => rows.value.find((one) => one.path === chosen.value))
const shown = useLater(row, (a, b) => a?.path === b?.path)
const isAgent = computed(() => rows.value.some((one) => one.kind === 'agent'))
const { told, problem, curl } = usePastedCurl(draft, () => row.value)
const offers = computed(() => offersOf(language.actions.value, language.workflows.value, props.name, language.known.value))
const input = ref<unknown>(undefined)
const sample = ref('')
const known = computed(() => ({ input: input.value, results: tries.results.value, shapes: shapesOf(draft.source.value, language) }))
const help = computed(() => ({ schema: language.schema.value, actions: language.actions.value, names: language.known.value, known: known.value }))
useFinds(() => [
  ...rows.value.map((one) => ({
    key: one.path,
    title: `${one.number} ${one.sentence}`.trim(),
    about: one.step,
    go: () => script.value?.focus(one.path),
  })),
  ...offers.value.map((one) => ({ key: one.key, title: `Add: ${one.title}`, about: one.about, go: () => script.value?.take(one) })),
])
const starting = ref(false)
/** Lines that are to become a workflow of their own. */
const extracting = ref<Path[]>([])

const rename = (name: string) => row.value && draft.edit((source) => renameStep(source, pathOf(row.value!.path), name))
function showVersion(number: number | null): void {
  const newest = page.data.value?.versions[0]?.number
  void router.push({ query: number && number !== newest ? { version: String(number) } : {} })
}
async function takeTheirs(): Promise<void> {
  store.conflict.value = false
  draft.saved.value = draft.text.value
  keep(place(), null)
  await client.invalidateQueries({ queryKey: ['workflow', props.name] })
}
function saveOver(version: number, text: string): void {
  draft.type(text)
  draft.base.value = version
  void store.save()
}
</script>

<template>
  <ProblemNote v-if="page.error.value" :problem="page.error.value" />
  <LoadingLines v-else-if="!fresh && page.isPending.value" />
  <template v-else>
    <WorkflowHead
      v-model:remark="store.remark.value"
      :name="name"
      :fresh="fresh"
      :page="page.data.value"
      :draft="draft"
      :side="side"
      @save="store.save"
      @turn="store.turn"
      @start="starting = true"
      @side="(to) => (side = to)"
      @version="showVersion"
      @name="(to) => draft.edit((source) => setValue(source, [nameKey(source)], to))"
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
    <SaveConflict v-if="store.conflict.value" :name="name" :mine="draft.text.value" :base="draft.base.value" @over="saveOver" @take="takeTheirs" />
    <p v-if="store.said.value" role="status" class="said">{{ store.said.value }}</p>
    <p v-if="draft.refusal.value || told" role="status" class="told">{{ draft.refusal.value || told }}</p>

    <div class="both">
      <section aria-label="Script" class="script">
        <h2>Script <button v-if="!isAgent" type="button" class="btn btn-link btn-sm" @click="script?.begin()">Add a line</button></h2>
        <ScriptPane
          ref="script"
          v-model:chosen="chosen"
          :draft="draft"
          :rows="rows"
          :marks="marks"
          :states="states"
          :offers="offers"
          @curl="curl"
          @extract="(paths) => (extracting = paths)"
          @told="(text) => (told = text)" />
        <FindingList :findings="draft.checked.value?.findings ?? []" @go="go" />
      </section>
      <section v-if="side === 'bench'" aria-label="Bench" :data-line="shown?.path" class="side">
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
          :row="shown"
          :language="language"
          :tries="tries"
          :known="known"
          :sample="sample"
          :workflow="fresh ? '' : name"
          @rename="rename"
          @extract="(path) => (extracting = [path])"
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
          :help="help"
          :source="draft.readable.value"
          @update:model-value="draft.type"
          @at="at"
          @save="store.save"
          @undo="draft.undo"
          @redo="draft.redo" />
      </section>
      <section v-if="!fresh" aria-label="Around it" class="around">
        <template v-if="draft.checked.value?.starters.length">
          <h2>Ways in</h2>
          <WaysIn :workflow="name" :hooks="draft.checked.value.hooks" :version="page.data.value?.versions[0]?.number ?? 0" />
        </template>
        <SettingsForm v-if="page.data.value" :page="page.data.value" />
        <RecentRuns :workflow="name" />
        <VersionList
          v-if="page.data.value"
          :name="name"
          :versions="page.data.value.versions"
          :shown="page.data.value.version"
          :text="draft.text.value"
          :changed="draft.changed.value"
          @show="showVersion" />
      </section>
    </div>
    <ExtractDialog v-model:paths="extracting" :draft="draft" :workflow="fresh ? '' : name" />
    <StartDialog
      v-model="starting"
      :workflow="name"
      :version="page.data.value?.version"
      :example="draft.checked.value?.sample"
      :schema="(draft.source.value?.value(['input']) ?? {}) as Schema"
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
  margin-top: 1.2rem;
}
.both :deep(h2) {
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
