<script setup lang="ts">
import { computed } from 'vue'
import { addItem } from '../edit/values'
import type { Draft } from './draft'
import type { Language } from './language'
import { type Row, toolsAt } from './rows'

/** Gives an agent another tool; how it is used is set on the tool’s own line. */
const props = defineProps<{ draft: Draft; row: Row; language: Language }>()
const flows = (kind: string) =>
  props.language.workflows.value.filter((one) => one.kind === kind).map((one) => ({ name: one.name, title: one.title || one.name }))
const groups = computed(() => [
  {
    word: 'Actions',
    key: 'do',
    of: props.language.actions.value.filter((one) => one.name !== 'agent').map((one) => ({ name: one.name, title: one.title })),
  },
  { word: 'Workflows', key: 'run', of: flows('workflow') },
  { word: 'Agents', key: 'agent', of: flows('agent') },
  { word: 'Tool servers', key: 'server', of: (props.language.known.value.server ?? []).map((name) => ({ name, title: name })) },
  { word: 'Tables', key: 'table', of: (props.language.known.value.table ?? []).map((name) => ({ name, title: name })) },
])
function tool(key: string, name: string): Record<string, unknown> {
  const action = key === 'do' ? props.language.actions.value.find((one) => one.name === name) : undefined
  const needed = ((action?.input as { required?: string[] } | undefined)?.required ?? []).map((field) => [
    field,
    { open: `the ${field.replace(/_/g, ' ')}` },
  ])
  return { [key]: name, ...(needed.length ? { with: Object.fromEntries(needed) } : {}) }
}
function add(event: Event): void {
  const select = event.target as HTMLSelectElement
  const [key, ...name] = select.value.split(' ')
  select.value = ''
  if (key) props.draft.edit((source) => addItem(source, toolsAt(props.row), tool(key, name.join(' '))))
}
</script>

<template>
  <label class="d-block">
    <strong>Tools</strong> <span class="quiet">stand as lines below it</span>
    <select class="form-select form-select-sm" aria-label="Add a tool" @change="add">
      <option value="">Add a tool …</option>
      <optgroup v-for="group in groups.filter((one) => one.of.length)" :key="group.key" :label="group.word">
        <option v-for="one in group.of" :key="one.name" :value="`${group.key} ${one.name}`">{{ one.title }}</option>
      </optgroup>
    </select>
  </label>
</template>
