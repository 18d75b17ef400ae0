<script setup lang="ts">
import { computed } from 'vue'
import { removeKey, setValue } from '../edit/values'
import type { Draft } from './draft'
import FieldRow from './FieldRow.vue'
import { fieldsOf, type FieldShape, plain, type Schema, type Widget } from './fields'
import type { Language } from './language'

/** What a workflow is called and what it may use up. */
const props = defineProps<{ draft: Draft; language: Language }>()
const field = (name: string, title: string, about: string, widget: Widget): FieldShape => ({
  name,
  title,
  about,
  required: false,
  widget,
  schema: {},
  choices: [],
})
const placed = computed(() => {
  const root = props.language.schema.value
  const limits = plain((root.properties?.limits ?? {}) as Schema, root)
  return [
    { at: ['title'], field: field('title', 'Title', '', 'text') },
    { at: ['note'], field: field('note', 'Note', 'What it is for.', 'long') },
    { at: ['labels'], field: field('labels', 'Labels', '', 'list') },
    ...fieldsOf(limits, root).map((one) => ({
      at: ['limits', one.name],
      field: { ...one, title: `Limit: ${one.title.toLowerCase()}`, required: false },
    })),
  ]
})
const value = (at: string[]) => props.draft.source.value?.value(at)
const put = (at: string[], given: unknown) => props.draft.edit((source) => setValue(source, at, given))
const clear = (at: string[]) => props.draft.edit((source) => removeKey(source, at))
</script>

<template>
  <h3>About it</h3>
  <FieldRow
    v-for="one in placed"
    :key="one.at.join('.')"
    :field="one.field"
    :value="value(one.at)"
    :parts="[]"
    :known="{}"
    @change="(given) => put(one.at, given)"
    @clear="clear(one.at)" />
</template>

<style scoped>
h3 {
  font-size: 1.05rem;
}
</style>
