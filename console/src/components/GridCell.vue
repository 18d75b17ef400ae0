<script setup lang="ts">
import { computed, nextTick, ref, useTemplateRef } from 'vue'
import { shown } from '../lib/format'

/** A cell of a table: its value, and after Enter or a click a field to write in. Enter keeps it, Esc leaves it. */
const props = defineProps<{ value: unknown; type: string; name: string; fixed?: boolean }>()
const emit = defineEmits<{ change: [value: unknown] }>()
const writing = ref(false)
const typed = ref('')
const wrong = ref('')
const field = useTemplateRef<HTMLInputElement | HTMLTextAreaElement | HTMLSelectElement>('field')
const button = useTemplateRef<HTMLButtonElement>('button')
const text = computed(() => (props.value === null || props.value === undefined ? '' : shown(props.value)))
const long = computed(() => props.type === 'any' || text.value.length > 60 || text.value.includes('\n'))
async function write(): Promise<void> {
  if (props.fixed) return
  typed.value = text.value
  wrong.value = ''
  writing.value = true
  await nextTick()
  field.value?.focus()
}
function read(): unknown {
  if (typed.value === '' && props.type !== 'text') return null
  if (props.type === 'number') {
    if (!Number.isFinite(Number(typed.value))) throw new Error('a number is needed')
    return Number(typed.value)
  }
  if (props.type === 'boolean') return typed.value === 'true'
  if (props.type !== 'any') return typed.value
  try {
    return JSON.parse(typed.value)
  } catch {
    return typed.value
  }
}
async function leave(keep: boolean): Promise<void> {
  if (!writing.value) return
  try {
    const value = keep ? read() : props.value
    writing.value = false
    if (JSON.stringify(value) !== JSON.stringify(props.value ?? null)) emit('change', value)
  } catch (error) {
    wrong.value = (error as Error).message
    return
  }
  await nextTick()
  button.value?.focus()
}
</script>

<template>
  <span v-if="writing" class="writing">
    <select
      v-if="type === 'boolean'"
      ref="field"
      v-model="typed"
      class="form-select form-select-sm"
      :aria-label="name"
      @keydown.enter.prevent="leave(true)"
      @keydown.esc.stop="leave(false)"
      @blur="leave(true)">
      <option value="">nothing</option>
      <option value="true">true</option>
      <option value="false">false</option>
    </select>
    <textarea
      v-else-if="long"
      ref="field"
      v-model="typed"
      rows="3"
      class="form-control form-control-sm"
      :aria-label="name"
      @keydown.enter.exact.prevent="leave(true)"
      @keydown.esc.stop="leave(false)"
      @blur="leave(true)" />
    <input
      v-else
      ref="field"
      v-model="typed"
      class="form-control form-control-sm"
      :inputmode="type === 'number' ? 'decimal' : undefined"
      :aria-label="name"
      @keydown.enter.prevent="leave(true)"
      @keydown.esc.stop="leave(false)"
      @blur="leave(true)" />
    <span v-if="wrong" class="text-danger small" role="alert">{{ wrong }}</span>
  </span>
  <button v-else ref="button" type="button" class="cell" :class="type" :title="text" :aria-label="`${name}: ${text || 'nothing'}`" @click="write">
    {{ text }}
  </button>
</template>

<style scoped>
.cell {
  display: block;
  width: 100%;
  min-height: 1.5rem;
  border: 0;
  background: none;
  color: inherit;
  text-align: left;
  padding: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.number {
  text-align: right;
}
</style>
