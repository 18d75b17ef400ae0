<script setup lang="ts">
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import type { Part } from './data'
import { type FieldShape, type Mark, shownAs, typed } from './fields'
import PairRows from './PairRows.vue'
import type { Made } from './taking'

/** What a field is written in, as its kind wants it; an expression in any of them is text. */
const props = defineProps<{
  id: string
  field: FieldShape
  value: unknown
  known: Record<string, string[]>
  holds: boolean
  parts: Part[]
  marks?: Mark[]
}>()
const emit = defineEmits<{ change: [value: unknown]; each: [part: Part, made: Made] }>()
const PythonEditor = defineAsyncComponent(() => import('../components/PythonEditor.vue'))
const PICKED = new Set(['model', 'credential', 'table', 'workflow', 'server'])
const widget = computed(() => (props.holds && !['long', 'code'].includes(props.field.widget) ? 'text' : props.field.widget))
const isMapping = computed(() => !!props.value && typeof props.value === 'object' && !Array.isArray(props.value))
const list = computed(() => Array.isArray(props.value) && props.value.every((one) => typeof one !== 'object'))
/** What the values of a mapping are. */
const pairsOf = computed(
  () => props.field.mapped ?? (typeof props.field.schema.additionalProperties === 'object' ? props.field.schema.additionalProperties : {}),
)
/** What holds when nothing is written. */
const usual = computed(() => (shownAs(props.field.schema.default ?? '') ? `${shownAs(props.field.schema.default)}, when left out` : ''))
const text = ref('')
const fault = ref('')
let timer: number | undefined
watch(
  // What it says, not which object it is: what is being typed stays when only that is another.
  () => JSON.stringify(props.value),
  () => {
    const now = props.value
    const shown = Array.isArray(now) && list.value ? now.map(String).join('\n') : shownAs(now)
    if (shown !== text.value && JSON.stringify(valueOf(text.value)) !== JSON.stringify(now)) text.value = shown
  },
  { immediate: true },
)
function valueOf(given: string): unknown {
  const kind = props.field.widget
  if (kind === 'number') return given.trim() && !Number.isNaN(Number(given)) ? Number(given) : given
  if (kind === 'list')
    return given.includes('${') && !given.includes('\n')
      ? given
      : given.trim().startsWith('[')
        ? typed(given)
        : given
            .split('\n')
            .filter((line) => line.trim())
            .map(typed)
  if (kind === 'any') return typed(given)
  if (kind === 'group' || kind === 'pairs') return typed(given)
  return given
}
function later(): void {
  window.clearTimeout(timer)
  timer = window.setTimeout(now, 350)
}
function now(): void {
  window.clearTimeout(timer)
  const value = valueOf(text.value)
  fault.value = widget.value === 'number' && typeof value === 'string' && value && !value.includes('${') ? 'This is no number' : ''
  if (!fault.value && JSON.stringify(value) !== JSON.stringify(props.value)) emit('change', value)
}
const pick = (event: Event) => emit('change', (event.target as HTMLSelectElement).value)
</script>

<template>
  <select
    v-if="widget === 'choice' || (PICKED.has(widget) && !holds)"
    :id="id"
    class="form-select form-select-sm"
    :value="shownAs(value)"
    @change="pick">
    <option value="" disabled>{{ usual || 'choose' }}</option>
    <option v-for="one in widget === 'choice' ? field.choices : (known[widget] ?? [])" :key="one" :value="one">{{ one }}</option>
    <option v-if="value && !(widget === 'choice' ? field.choices : (known[widget] ?? [])).includes(String(value))" :value="shownAs(value)">
      {{ shownAs(value) }}, which is not there
    </option>
  </select>
  <div v-else-if="widget === 'truth'" class="form-check">
    <input
      :id="id"
      type="checkbox"
      class="form-check-input"
      :checked="value === true"
      @change="emit('change', ($event.target as HTMLInputElement).checked)" />
  </div>
  <PairRows
    v-else-if="
      (widget === 'pairs' || ((widget === 'any' || field.mapped) && isMapping)) &&
      (value === undefined || value === null || (typeof value === 'object' && !Array.isArray(value)))
    "
    :id="id"
    :parts="parts"
    :of="pairsOf"
    :value="(value ?? {}) as Record<string, unknown>"
    @change="(given) => emit('change', given)"
    @each="(part, made) => emit('each', part, made)" />
  <PythonEditor
    v-else-if="widget === 'code'"
    :id="id"
    :name="field.title"
    :value="shownAs(value)"
    :marks="marks ?? []"
    @change="(given) => emit('change', given)" />
  <textarea
    v-else-if="['long', 'list', 'group', 'pairs'].includes(widget) || text.includes('\n')"
    :id="id"
    v-model="text"
    class="form-control form-control-sm"
    :class="{ mono: widget !== 'long' }"
    :rows="Math.min(14, Math.max(widget === 'long' ? 3 : 2, text.split('\n').length))"
    :placeholder="usual || (widget === 'list' ? 'one a line' : '')"
    @input="later"
    @change="now" />
  <input
    v-else
    :id="id"
    v-model="text"
    class="form-control form-control-sm"
    :type="widget === 'secret' ? 'password' : 'text'"
    :placeholder="String(field.schema.placeholder ?? usual)"
    :inputmode="widget === 'number' ? 'decimal' : undefined"
    :aria-invalid="fault ? 'true' : undefined"
    :autocomplete="widget === 'secret' ? 'new-password' : 'off'"
    @input="later"
    @change="now" />
  <p v-if="fault" class="text-danger small mb-0" role="alert">{{ fault }}</p>
</template>
