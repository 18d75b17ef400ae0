<script setup lang="ts">
import { computed } from 'vue'
import FieldRow from '../workflow/FieldRow.vue'
import { fieldsOf, type FieldShape, type Schema } from '../workflow/fields'

/** A form of what a JSON Schema describes: a field for each of its properties, forms in it for those that are mappings; those that lie deep, or
 * in themselves, are written as JSON. */
const DEEPEST = 3
const props = defineProps<{
  schema: Schema
  root?: Schema
  value: Record<string, unknown>
  first?: string[]
  depth?: number
  known?: Record<string, string[]>
}>()
const emit = defineEmits<{ change: [value: Record<string, unknown>] }>()
const root = computed(() => props.root ?? props.schema)
const deep = computed(() => (props.depth ?? 0) >= DEEPEST)
const fields = computed(() =>
  fieldsOf(props.schema, root.value, props.first).map((one) => ({
    ...one,
    title: one.schema.title ?? one.title,
    widget: deep.value && one.widget === 'group' ? ('any' as const) : one.widget,
  })),
)
const inner = (name: string) => {
  const given = props.value[name]
  return given && typeof given === 'object' && !Array.isArray(given) ? (given as Record<string, unknown>) : {}
}
function set(field: FieldShape, value: unknown): void {
  const nothing = (field.widget === 'number' && value === '') || value === undefined
  emit(
    'change',
    Object.fromEntries([...Object.entries(props.value).filter(([name]) => name !== field.name), ...(nothing ? [] : [[field.name, value]])]),
  )
}
</script>

<template>
  <template v-for="field in fields" :key="field.name">
    <fieldset v-if="field.widget === 'group'">
      <legend>{{ field.title }}<span v-if="field.required" class="quiet"> needed</span></legend>
      <p v-if="field.about" class="quiet small">{{ field.about }}</p>
      <SchemaForm
        :schema="field.schema"
        :root="root"
        :depth="(depth ?? 0) + 1"
        :known="known"
        :value="inner(field.name)"
        @change="(given) => set(field, given)" />
    </fieldset>
    <FieldRow
      v-else
      :field="field"
      :value="value[field.name]"
      :parts="[]"
      :known="known ?? {}"
      literal
      @change="(given) => set(field, given)"
      @clear="set(field, undefined)" />
  </template>
</template>

<style scoped>
fieldset {
  border-left: 2px solid var(--relay-line);
  padding-left: 0.8rem;
  margin-bottom: 0.7rem;
}
legend {
  font-size: 1rem;
  font-weight: 600;
}
</style>
