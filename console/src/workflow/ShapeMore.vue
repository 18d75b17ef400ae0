<script setup lang="ts">
import { computed } from 'vue'
import type { Path } from '../edit/source'
import { removeKey, setValue } from '../edit/values'
import type { Draft } from './draft'
import FieldRow from './FieldRow.vue'
import type { FieldShape, Widget } from './fields'

/** What else is known of a part of a shape (JSON Schema). */
const props = defineProps<{ draft: Draft; at: Path }>()
const field = (name: string, title: string, about: string, widget: Widget): FieldShape => ({
  name,
  title,
  about,
  required: false,
  widget,
  schema: {},
  choices: [],
})
const FIELDS = [
  field('title', 'Title', 'How a form asks for it.', 'text'),
  field('description', 'Description', 'Models read it too.', 'text'),
  field('default', 'Default', 'What it is when it is left out.', 'any'),
  field('enum', 'Choices', '', 'list'),
  field('format', 'Format', 'Such as email, date, uri.', 'text'),
  field('examples', 'Examples', '', 'any'),
  field('minimum', 'At least', '', 'number'),
  field('maximum', 'At most', '', 'number'),
  field('minItems', 'Items at least', '', 'number'),
]
const schema = computed(() => (props.draft.source.value?.value(props.at) ?? {}) as Record<string, unknown>)
const put = (key: string, value: unknown) => props.draft.edit((source) => setValue(source, [...props.at, key], value))
const clear = (key: string) => props.draft.edit((source) => removeKey(source, [...props.at, key]))
</script>

<template>
  <FieldRow
    v-for="one in FIELDS"
    :key="one.name"
    :field="one"
    :value="schema[one.name]"
    :parts="[]"
    :known="{}"
    @change="(value) => put(one.name, value)"
    @clear="clear(one.name)" />
</template>
