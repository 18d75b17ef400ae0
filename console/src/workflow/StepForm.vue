<script setup lang="ts">
import { computed, ref } from 'vue'
import { pathOf } from '../edit/source'
import { removeKey, setValue } from '../edit/values'
import type { Part } from './data'
import type { Draft } from './draft'
import FieldRow from './FieldRow.vue'
import { type Language, type Placed, stepFields } from './language'
import type { Row } from './rows'
import ToolAdder from './ToolAdder.vue'

/** What a line does: the fields of its action or kind. */
const props = defineProps<{ draft: Draft; row: Row; language: Language; parts: Part[] }>()
const more = ref(false)
const step = computed(() => props.draft.source.value?.value(pathOf(props.row.path)) as Record<string, unknown> | undefined)
const action = computed(() => props.language.actions.value.find((one) => one.name === step.value?.do))
const placed = computed<Placed[]>(() => {
  if (props.row.kind === 'arm' && props.row.path.includes('branch')) return arm()
  if (props.row.kind === 'arm' || props.row.kind === 'strand') return []
  return stepFields(props.row.kind, props.language.schema.value, action.value)
})
function arm(): Placed[] {
  const field = (name: string, title: string, about: string) => ({
    field: { name, title, about, required: name === 'if', widget: 'any' as const, schema: {}, choices: [] },
    at: [name],
    more: false,
  })
  const gives = field('gives', 'Gives', 'What the whole choice then gives.')
  return step.value && 'else' in step.value ? [gives] : [field('if', 'If', 'An expression; the first way that holds is taken.'), gives]
}
const isAgent = computed(() => step.value?.do === 'agent')
const valueAt = (at: (string | number)[]) => props.draft.source.value?.value([...pathOf(props.row.path), ...at])
const shown = computed(() =>
  placed.value
    .filter((one) => !(isAgent.value && one.field.name === 'tools'))
    .filter((one) => !one.more || more.value || valueAt(one.at) !== undefined),
)
const hidden = computed(() => placed.value.filter((one) => one.more && !shown.value.includes(one) && one.field.name !== 'tools').length)
const set = (one: Placed, value: unknown) => props.draft.edit((source) => setValue(source, [...pathOf(props.row.path), ...one.at], value))
const clear = (one: Placed) => props.draft.edit((source) => removeKey(source, [...pathOf(props.row.path), ...one.at]))
const another = () =>
  props.draft.edit((source) => {
    const ways = source.value([...pathOf(props.row.path), 'branch']) as Record<string, unknown>[]
    const way = { if: '${ true }', steps: [{ step: `${props.row.step}_way_${ways.length}`, todo: 'what is done then' }] }
    const last = ways.length - 1
    const reordered = ways[last] && 'else' in ways[last] ? [...ways.slice(0, last), way, ways[last]] : [...ways, way]
    return setValue(source, [...pathOf(props.row.path), 'branch'], reordered)
  })
</script>

<template>
  <p v-if="row.kind === 'do' && !action" class="quiet">There is no action {{ step?.do }} here.</p>
  <FieldRow
    v-for="one in shown"
    :key="`${row.path} ${one.at.join('.')}`"
    :field="one.field"
    :value="valueAt(one.at)"
    :parts="parts"
    :known="language.known.value"
    @change="(value) => set(one, value)"
    @clear="clear(one)" />
  <button v-if="hidden" type="button" class="btn btn-link btn-sm p-0" @click="more = true">{{ hidden }} more</button>
  <ToolAdder v-if="isAgent" :draft="draft" :row="row" :language="language" />
  <button v-if="row.kind === 'branch'" type="button" class="btn btn-outline-primary btn-sm" @click="another">Add a way</button>
  <p v-if="!placed.length && row.kind !== 'branch'" class="quiet">Its lines stand below it.</p>
</template>
