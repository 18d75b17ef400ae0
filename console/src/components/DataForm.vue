<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { shown } from '../lib/format'
import type { Schema } from '../workflow/fields'
import SchemaForm from './SchemaForm.vue'

/** Data that fit a JSON Schema, by a form where that has properties, or as JSON. `wrong` says what keeps it from being sent. */
const props = defineProps<{ schema: Schema; word: string }>()
const value = defineModel<unknown>({ required: true })
const wrong = defineModel<string>('wrong', { required: true })
const hasFields = computed(() => Object.keys(props.schema.properties ?? {}).length > 0)
const isMapping = computed(
  () => value.value === undefined || value.value === null || (typeof value.value === 'object' && !Array.isArray(value.value)),
)
const byHand = ref(false)
const asJson = computed(() => byHand.value || !hasFields.value || !isMapping.value)
const text = ref('')
watch(
  [value, asJson],
  () => {
    if (read()?.told !== JSON.stringify(value.value)) text.value = value.value === undefined ? '' : shown(value.value)
  },
  { immediate: true },
)
function read(): { told: string | undefined; value: unknown } | null {
  try {
    const found = text.value.trim() ? (JSON.parse(text.value) as unknown) : undefined
    return { told: JSON.stringify(found), value: found }
  } catch {
    return null
  }
}
function write(): void {
  const found = read()
  if (found) value.value = found.value
}
const missing = computed(() => {
  const given = (value.value ?? {}) as Record<string, unknown>
  return asJson.value ? [] : (props.schema.required ?? []).filter((name) => given[name] === undefined || given[name] === '')
})
watch(
  [missing, text, asJson],
  () => (wrong.value = asJson.value ? (read() ? '' : 'This is not JSON') : missing.value.length ? `${missing.value.join(', ')} needed` : ''),
  { immediate: true },
)
</script>

<template>
  <div>
    <textarea v-if="asJson" v-model="text" rows="10" class="form-control mono" :aria-label="`${word} as JSON`" spellcheck="false" @input="write" />
    <SchemaForm v-else :schema="schema" :value="(value ?? {}) as Record<string, unknown>" @change="(given) => (value = given)" />
    <p v-if="asJson && wrong" class="text-danger small mb-0" role="alert">{{ wrong }}</p>
    <button v-if="hasFields && isMapping" type="button" class="btn btn-link btn-sm p-0" @click="byHand = !byHand">
      {{ byHand ? 'As a form' : 'As JSON' }}
    </button>
  </div>
</template>
