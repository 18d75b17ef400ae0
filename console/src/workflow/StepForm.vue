<script setup lang="ts">
import { computed, ref } from 'vue'
import { expression } from '../edit/expressions'
import { forEach, loopsAround } from '../edit/loops'
import { nameOf, pathOf } from '../edit/source'
import { insertSteps } from '../edit/steps'
import { removeKey, renameKey, setValue } from '../edit/values'
import { asText } from './catalogue'
import type { Part } from './data'
import type { Draft } from './draft'
import FieldRow from './FieldRow.vue'
import type { Mark } from './fields'
import { type Language, type Placed, stepFields } from './language'
import PhraseTry from './PhraseTry.vue'
import type { Row } from './rows'
import ShapeRows from './ShapeRows.vue'
import type { Made } from './taking'
import ToolAdder from './ToolAdder.vue'

/** What a line does: the fields of its action or kind. */
const props = defineProps<{ draft: Draft; row: Row; language: Language; parts: Part[]; failed?: string }>()
const more = ref(false)
/** Where the step stands; of an agent document the document itself. */
const base = computed(() => (props.row.kind === 'agent' ? [] : pathOf(props.row.path)))
const step = computed(() => props.draft.source.value?.value(base.value) as Record<string, unknown> | undefined)
const action = computed(() => props.language.actions.value.find((one) => one.name === (props.row.kind === 'agent' ? 'agent' : step.value?.do)))
const field = (name: string, title: string, about: string) => ({
  field: { name, title, about, required: name === 'if', widget: 'any' as const, schema: {}, choices: [] },
  at: [name],
  more: false,
})
const placed = computed<Placed[]>(() => {
  if (props.row.kind === 'arm' && props.row.path.includes('branch')) return arm()
  if (props.row.kind === 'strand') return [field('gives', 'Gives', 'What the strand gives.')]
  if (props.row.kind === 'arm') return []
  if (props.row.kind === 'agent') return stepFields('do', props.language.schema.value, action.value).map((one) => ({ ...one, at: one.at.slice(1) }))
  return stepFields(props.row.kind, props.language.schema.value, action.value)
})
function arm(): Placed[] {
  const gives = field('gives', 'Gives', 'What the whole choice then gives.')
  return step.value && 'else' in step.value ? [gives] : [field('if', 'If', 'An expression; the first way that holds is taken.'), gives]
}
const isAgent = computed(() => step.value?.do === 'agent' || props.row.kind === 'agent')
/** The strand that is chosen, to be called otherwise. */
const strandName = computed(() => (props.row.kind === 'strand' ? String(pathOf(props.row.path).at(-1)) : ''))
const emit = defineEmits<{ chosen: [path: string] }>()
function renameStrand(name: unknown): void {
  const path = pathOf(props.row.path)
  if (props.draft.edit((source) => renameKey(source, path, String(name)))) emit('chosen', nameOf([...path.slice(0, -1), String(name)]))
}
const NAME = { name: 'name', title: 'Name', about: '', required: true, widget: 'text' as const, schema: {}, choices: [] }
const valueAt = (at: (string | number)[]) => props.draft.source.value?.value([...base.value, ...at])
const shown = computed(() =>
  placed.value
    .filter((one) => !(isAgent.value && one.field.name === 'tools'))
    .filter((one) => !one.more || more.value || valueAt(one.at) !== undefined),
)
const hidden = computed(() => placed.value.filter((one) => one.more && !shown.value.includes(one) && one.field.name !== 'tools').length)
const set = (one: Placed, value: unknown) => props.draft.edit((source) => setValue(source, [...base.value, ...one.at], value))
/** Take a column: the line is done for each item of its list. */
function each(one: Placed, part: Part, made: Made): void {
  const path = base.value
  const write = (as: string) => setValue(props.draft.source.value!, [...path, ...one.at], made(expression([as, part.path.at(-1)!])))
  let inner = false
  const done = props.draft.edit((source) => {
    inner = !loopsAround(source, path).some((loop) => loop.list.join('.') === part.each!.join('.'))
    return forEach(source, path, part.each!, write)
  })
  if (done && inner) emit('chosen', nameOf([...path, 'steps', 0]))
}
const clear = (one: Placed) => props.draft.edit((source) => removeKey(source, [...base.value, ...one.at]))
/** What is wrong with a text that is written out: as it was checked, else as its last try told with the line. */
function marksOf(one: Placed): Mark[] | undefined {
  if (one.field.widget !== 'code') return undefined
  const { source, checked } = props.draft
  const path = [...base.value, ...one.at]
  const pair = source.value?.pair(path)?.pair
  const first = pair ? source.value!.text.slice(0, pair.key.range![0]).split('\n').length : 0
  const found = (checked.value?.findings ?? []).filter((finding) => finding.path === nameOf(path))
  if (found.length) return found.map((finding) => ({ line: finding.line - first, message: `${finding.message}. ${finding.fix}` }))
  const told = /^line (\d+): (.*)/s.exec(props.failed ?? '')
  return told ? [{ line: Number(told[1]), message: told[2]! }] : []
}
/** Choices that are found by phrases: of a question in a conversation, or of `model.meant`. */
const byPhrases = computed(() => {
  const ask = props.row.kind === 'ask' && (step.value?.ask as Record<string, unknown> | undefined)
  const found = step.value?.do === 'model.meant' ? (step.value.with as Record<string, unknown> | undefined) : ask && ask.at === 'conversation' && ask
  const { choices, otherwise, model } = found || {}
  if (!choices || typeof choices !== 'object' || Array.isArray(choices)) return null
  return { choices: choices as Record<string, string[]>, otherwise: otherwise as string | undefined, model: model as string | undefined }
})
/** Whether a field describes data, and is written as rows. */
const isShape = (one: Placed) =>
  ['gives', 'form'].includes(one.field.name) &&
  one.at.length === (props.row.kind === 'agent' ? 1 : 2) &&
  ['group', 'pairs', 'any'].includes(one.field.widget)
function strand(): void {
  const strands = (step.value?.together ?? {}) as object
  const name = `strand_${Object.keys(strands).length + 1}`
  props.draft.edit((source) =>
    setValue(source, [...pathOf(props.row.path), 'together', name], {
      steps: [{ step: `${props.row.step}_${name}`, todo: 'what is done beside the others' }],
    }),
  )
}
const another = () =>
  props.draft.edit((source) => {
    const ways = source.value([...pathOf(props.row.path), 'branch']) as Record<string, unknown>[]
    const way = { if: '${ true }', steps: [{ step: `${props.row.step}_way_${ways.length}`, todo: 'what is done then' }] }
    const last = ways.length - 1
    const at = ways[last] && 'else' in ways[last] ? last : ways.length
    const list = [...pathOf(props.row.path), 'branch']
    return source.inFlow(list) ? setValue(source, list, ways.toSpliced(at, 0, way)) : insertSteps(source, list, at, asText(way))
  })
</script>

<template>
  <p v-if="row.kind === 'do' && !action" class="quiet">There is no action {{ step?.do }} here.</p>
  <FieldRow v-if="strandName" :field="NAME" :value="strandName" :parts="[]" :known="{}" @change="renameStrand" @clear="() => {}" />
  <template v-for="one in shown" :key="`${row.path} ${one.at.join('.')}`">
    <div v-if="isShape(one)" class="mb-3">
      <strong>{{ one.field.title }}</strong> <span class="quiet">{{ one.field.about }}</span>
      <ShapeRows :draft="draft" :at="[...base, ...one.at]" word="part" />
    </div>
    <FieldRow
      v-else
      :field="one.field"
      :value="valueAt(one.at)"
      :parts="one.field.schema.written ? [] : parts"
      :literal="!!one.field.schema.written"
      :known="language.known.value"
      :marks="marksOf(one)"
      @change="(value) => set(one, value)"
      @each="(part, made) => each(one, part, made)"
      @clear="clear(one)" />
  </template>
  <button v-if="hidden" type="button" class="btn btn-link btn-sm p-0" @click="more = true">{{ hidden }} more</button>
  <PhraseTry v-if="byPhrases" :key="row.path" v-bind="byPhrases" />
  <ToolAdder v-if="isAgent" :draft="draft" :row="row" :language="language" />
  <button v-if="row.kind === 'branch'" type="button" class="btn btn-outline-primary btn-sm" @click="another">Add a way</button>
  <button v-if="row.kind === 'together'" type="button" class="btn btn-outline-primary btn-sm" @click="strand">Add a strand</button>
  <p v-if="!placed.length && !['branch', 'together'].includes(row.kind)" class="quiet">Its lines stand below it.</p>
</template>
