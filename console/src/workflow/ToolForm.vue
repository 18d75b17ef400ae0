<script setup lang="ts">
import { computed } from 'vue'
import { pathOf } from '../edit/source'
import { removeSteps } from '../edit/steps'
import { removeKey, setValue } from '../edit/values'
import type { Part } from './data'
import type { Draft } from './draft'
import FieldRow from './FieldRow.vue'
import { fieldsOf, type FieldShape, type Schema } from './fields'
import type { Language } from './language'
import type { Row } from './rows'

/** A tool of an agent: when it is used, and for each field whether it is written, data, or left open for the model. */
const props = defineProps<{ draft: Draft; row: Row; language: Language; parts: Part[] }>()
const emit = defineEmits<{ chosen: [path: string] }>()
const path = computed(() => pathOf(props.row.path))
const tool = computed(() => (props.draft.source.value?.value(path.value) ?? {}) as Record<string, unknown>)
const action = computed(() => props.language.actions.value.find((one) => one.name === tool.value.do))
const fields = computed(() => (action.value ? fieldsOf(action.value.input as Schema, action.value.input as Schema, action.value.first) : []))
const given = computed(() => (tool.value.with ?? {}) as Record<string, unknown>)
const isOpen = (name: string) => !!given.value[name] && typeof given.value[name] === 'object' && 'open' in (given.value[name] as object)
const words = (name: string) => (isOpen(name) ? String((given.value[name] as { open: unknown }).open ?? '') : '')
const put = (at: string[], value: unknown) => props.draft.edit((source) => setValue(source, [...path.value, ...at], value))
const clear = (at: string[]) => props.draft.edit((source) => removeKey(source, [...path.value, ...at]))
const text = (name: string, title: string, about: string): FieldShape => ({
  name,
  title,
  about,
  required: false,
  widget: 'text',
  schema: {},
  choices: [],
})
const GIVEN: FieldShape = {
  ...text('with', 'What it is given', 'A value, or {"open": "what belongs there"} for what the model fills in.'),
  widget: 'pairs',
}
const OF_KIND: Record<string, FieldShape[]> = {
  table: [
    { ...text('columns', 'Columns', 'Those that the model sees; all when left out.'), widget: 'list' },
    { ...text('may', 'It may', 'find, total, add, upsert, remove.'), widget: 'list' },
  ],
  server: [{ ...text('only', 'Only these of its tools', ''), widget: 'list' }, GIVEN],
  run: [GIVEN],
  agent: [GIVEN],
  do: [{ ...text('approve', 'A person approves each call', ''), widget: 'truth' }],
}
const own = computed(() => [
  text('name', 'Name', 'What the model calls it.'),
  text('use_when', 'When it is used', 'In words, for the model.'),
  ...(OF_KIND[Object.keys(OF_KIND).find((kind) => kind in tool.value) ?? ''] ?? []),
])
function open(field: FieldShape, on: boolean): void {
  if (on) put(['with', field.name], { open: field.about || field.title })
  else clear(['with', field.name])
}
function remove(): void {
  const list = path.value.slice(0, -1)
  const only = ((props.draft.source.value?.value(list) ?? []) as unknown[]).length === 1
  const holder = path.value[0] === 'tools' ? 'agent' : path.value.slice(0, path.value.indexOf('with')).join('.')
  if (props.draft.edit((source) => (only ? removeKey(source, list) : removeSteps(source, [path.value])))) emit('chosen', holder)
}
</script>

<template>
  <h3>A tool of the agent</h3>
  <FieldRow
    v-for="one in own"
    :key="`${row.path} ${one.name}`"
    :field="one"
    :value="tool[one.name]"
    :parts="[]"
    :known="{}"
    @change="(value) => put([one.name], value)"
    @clear="clear([one.name])" />
  <template v-for="field in fields" :key="`${row.path} with ${field.name}`">
    <label v-if="!field.schema.written" class="open">
      <input
        type="checkbox"
        class="form-check-input"
        :checked="isOpen(field.name)"
        @change="open(field, ($event.target as HTMLInputElement).checked)" />
      {{ field.title }} is left open for the model
    </label>
    <input
      v-if="isOpen(field.name)"
      class="form-control form-control-sm mb-2"
      :value="words(field.name)"
      :aria-label="`What belongs into ${field.title}`"
      @change="put(['with', field.name, 'open'], ($event.target as HTMLInputElement).value)" />
    <FieldRow
      v-else
      :field="field"
      :value="given[field.name]"
      :parts="field.schema.written ? [] : parts"
      :literal="!!field.schema.written"
      :known="language.known.value"
      @change="(value) => put(['with', field.name], value)"
      @clear="clear(['with', field.name])" />
  </template>
  <button type="button" class="btn btn-link btn-sm text-danger p-0" @click="remove">Take this tool away</button>
</template>

<style scoped>
h3 {
  font-size: 1.05rem;
}
.open {
  float: right;
  font-size: 0.85rem;
}
</style>
