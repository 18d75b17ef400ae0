<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { type Path, pathOf } from '../edit/source'
import { removeKey, setValue } from '../edit/values'
import AboutForm from './AboutForm.vue'
import AsItComes from './AsItComes.vue'
import { type Known, type Part, parts as partsAt } from './data'
import type { Draft } from './draft'
import FieldRow from './FieldRow.vue'
import type { FieldShape } from './fields'
import IfItFails from './IfItFails.vue'
import ItsResult from './ItsResult.vue'
import type { Language } from './language'
import type { Row } from './rows'
import ShapeRows from './ShapeRows.vue'
import StartForm from './StartForm.vue'
import StepForm from './StepForm.vue'
import ToolForm from './ToolForm.vue'
import type { Tries } from './tries'
import WriteBack from './WriteBack.vue'

/** The chosen line, in parts that fold: what it does, if it fails, its result, note and name. */
const props = defineProps<{ draft: Draft; row: Row | undefined; language: Language; tries: Tries; known: Known; sample: string; workflow: string }>()
const emit = defineEmits<{ rename: [name: string]; chosen: [path: string]; extract: [path: Path] }>()
const comes = ref(false)
const another = ref(false)
const START: Row = { path: 'triggers', number: '', depth: 0, kind: 'trigger', step: '', sentence: '', note: '', trace: '', own: false }
function begun(path: string): void {
  another.value = false
  emit('chosen', path)
}
const name = ref('')
watch(
  [() => props.row?.path, () => props.row?.step],
  () => {
    name.value = props.row?.step ?? ''
    another.value = false
  },
  { immediate: true },
)
/** What may be used at a place; of columns only where the line can be done for each item. */
function usable(path: Path | undefined, columns = false): Part[] {
  const source = props.draft.source.value
  return path && source ? partsAt(source, path, props.known).filter((one) => columns || !one.each) : []
}
const parts = computed(() => usable(props.row && pathOf(props.row.path), !!props.row?.own && props.row.kind !== 'each'))
const behind = computed(() => usable(['result']))
const result: FieldShape = {
  name: 'result',
  title: 'It gives',
  about: 'What whoever started it is told, and what other workflows get.',
  required: false,
  widget: 'any',
  schema: {},
  choices: [],
}
const note: FieldShape = {
  name: 'note',
  title: 'Note',
  about: 'For whoever reads the script.',
  required: false,
  widget: 'long',
  schema: {},
  choices: [],
}
const subject: FieldShape = {
  name: 'subject',
  title: 'What a run is about',
  about: 'Such as a guest’s address: runs are found by it, and those about the same go one after the other.',
  required: false,
  widget: 'any',
  schema: {},
  choices: [],
}
const value = (at: (string | number)[]) => props.draft.source.value?.value(at)
const put = (at: (string | number)[], given: unknown) => props.draft.edit((source) => setValue(source, at, given))
const clear = (at: (string | number)[]) => props.draft.edit((source) => removeKey(source, at))
const sends = computed(() => ['do', 'run', 'agent'].includes(props.row?.kind ?? ''))
</script>

<template>
  <p v-if="!row" class="quiet">Choose a line, or add one: press Enter on a line, or + below it.</p>
  <AboutForm v-else-if="row.kind === 'about'" :draft="draft" :language="language" />
  <template v-else-if="row.kind === 'input'">
    <h3>What it is given</h3>
    <ShapeRows :draft="draft" :at="['input']" word="input" />
    <FieldRow
      class="mt-3"
      :field="subject"
      :value="value(['subject'])"
      :parts="parts.filter((one) => one.path[0] === 'input')"
      :known="{}"
      @change="(given) => put(['subject'], given)"
      @clear="clear(['subject'])" />
    <h3>Settings, adjusted without editing it</h3>
    <ShapeRows :draft="draft" :at="['settings']" word="setting" />
  </template>
  <template v-else-if="row.kind === 'trigger'">
    <h3>What starts it</h3>
    <StartForm :draft="draft" :row="another ? START : row" :language="language" @chosen="begun" />
    <button v-if="pathOf(row.path).length === 2 && !another" type="button" class="btn btn-outline-primary btn-sm mt-2" @click="another = true">
      Another way to start it
    </button>
  </template>
  <template v-else-if="row.kind === 'result'">
    <FieldRow
      :field="result"
      :value="value(['result'])"
      :parts="behind"
      :known="{}"
      @change="(given) => put(['result'], given)"
      @clear="clear(['result'])" />
    <button
      v-if="value(['always']) === undefined"
      type="button"
      class="btn btn-link btn-sm p-0"
      @click="put(['always'], [{ step: 'at_the_end', todo: 'what is done at the end' }])">
      Add lines that are done at the end, whatever happened
    </button>
  </template>
  <ToolForm v-else-if="row.kind === 'tool'" :draft="draft" :row="row" :language="language" :parts="parts" @chosen="(path) => emit('chosen', path)" />
  <template v-else>
    <div v-if="sends" class="ways">
      <button type="button" class="btn btn-link btn-sm p-0" :aria-pressed="!comes" @click="comes = false">as written</button> |
      <button type="button" class="btn btn-link btn-sm p-0" :aria-pressed="comes" @click="comes = true">as it comes</button>
    </div>
    <details open>
      <summary>
        <h3>What it does</h3>
      </summary>
      <AsItComes v-if="comes && sends" :draft="draft" :step="row.step" :input="known.input" :sample="sample" :results="tries.results.value" />
      <StepForm
        v-else
        :draft="draft"
        :row="row"
        :language="language"
        :parts="parts"
        :failed="tries.spans.value[row.trace]?.error?.message"
        @chosen="(path) => emit('chosen', path)" />
    </details>
    <template v-if="row.own">
      <WriteBack :draft="draft" :row="row" :language="language" :known="known" @chosen="(path) => emit('chosen', path)" />
      <details>
        <summary><h3>If it fails</h3></summary>
        <IfItFails :draft="draft" :row="row" />
      </details>
      <details :open="!!tries.spans.value[row.trace]">
        <summary><h3>Its result</h3></summary>
        <ItsResult :row="row" :tries="tries" :workflow="workflow" />
      </details>
      <details>
        <summary><h3>Note and name</h3></summary>
        <form class="mb-2" @submit.prevent="emit('rename', name.trim())">
          <label>Name <input v-model="name" class="form-control form-control-sm d-inline-block w-auto mono" /></label>
          <button type="submit" class="btn btn-link btn-sm" :disabled="name === row.step">Rename</button>
        </form>
        <FieldRow
          :field="note"
          :value="value([...pathOf(row.path), 'note'])"
          :parts="[]"
          :known="{}"
          @change="(given) => put([...pathOf(row!.path), 'note'], given)"
          @clear="clear([...pathOf(row!.path), 'note'])" />
        <button type="button" class="btn btn-link btn-sm p-0" @click="emit('extract', pathOf(row!.path))">Make a workflow of this line</button>
      </details>
    </template>
  </template>
</template>

<style scoped>
h3 {
  font-size: 1.05rem;
  display: inline-block;
  margin: 0.4rem 0;
}
summary {
  cursor: pointer;
}
.ways {
  float: right;
}
.ways [aria-pressed='true'] {
  color: inherit;
  font-weight: 600;
  text-decoration: none;
}
</style>
