<script setup lang="ts">
import { computed, ref, useId, watch } from 'vue'
import { expression, names } from '../edit/expressions'
import { brief, type Part, phrase, phraseOf, said as partSaid } from './data'
import DataOffers from './DataOffers.vue'
import FieldInput from './FieldInput.vue'
import type { FieldShape, Mark } from './fields'
import { type Made, put, useTaking } from './taking'

/** One field of a form: its value, a phrase where that is data from the run, or an expression; `literal` where there are no expressions,
 * and a text that looks like one is that text. */
const props = defineProps<{
  field: FieldShape
  value: unknown
  parts: Part[]
  known: Record<string, string[]>
  literal?: boolean
  marks?: Mark[]
}>()
const emit = defineEmits<{ change: [value: unknown]; clear: []; each: [part: Part, made: Made] }>()
const picking = ref(false)
const raw = ref(false)
const id = useId()
/** Somebody writes in it: it stays what is written in until they leave it, also where that is already data from the run. */
const writing = ref(false)
const said = computed(() => (raw.value || writing.value || props.literal ? null : phraseOf(props.value)))
const computedText = computed(() => !props.literal && typeof props.value === 'string' && props.value.includes('${'))
const used = computed(() => (computedText.value && !said.value ? names(String(props.value)).map((name) => phrase(name.path)) : []))
/** What is written instead of one value, or of a list. */
const severally = computed(() => (props.field.mapped ? 'Phrases' : 'Several values'))
const TEXTS = new Set(['text', 'long'])
/** A name long enough to be meant. */
const NAME = /^[A-Za-z_][\w.]+$/

const taking = useTaking()
let cursor: number | null = null
function take(part: Part): void {
  picking.value = false
  const before = typeof props.value === 'string' && TEXTS.has(props.field.widget) && props.value.trim() && !said.value ? props.value : ''
  const at = cursor
  give(part, (given) => (before ? put(before, at, given) : given))
  cursor = null
}
/** Give a part; of a column, to whoever does the line for each item of its list. */
function give(part: Part, made: Made): void {
  writing.value = false
  if (part.each) emit('each', part, made)
  else emit('change', made(expression(part.path)))
}
/** While it is written, the script opens and shows what may go into it. */
function written(event: FocusEvent): void {
  const field = event.target as HTMLInputElement | HTMLTextAreaElement
  writing.value = ['INPUT', 'TEXTAREA'].includes(field.tagName)
  if (props.parts.length && writing.value && field.type !== 'checkbox') taking.value = { title: props.field.title, parts: props.parts, take }
}
function left(event: FocusEvent): void {
  const field = event.target as HTMLTextAreaElement
  writing.value = false
  cursor = 'selectionStart' in field ? field.selectionStart : null
  if (!(event.currentTarget as HTMLElement).contains(event.relatedTarget as Node | null)) typing.value = { word: '', inner: false }
}
/** The name that is being typed, of which parts are offered; `inner` where it stands in a row of pairs. */
const typing = ref({ word: '', inner: false })
function typed(event: Event): void {
  const field = event.target as HTMLInputElement
  const whole = 'value' in field ? field.value.trim() : ''
  typing.value = { word: NAME.test(whole) ? whole : '', inner: !!field.closest('.pairs') && field.tagName === 'TEXTAREA' }
}
const near = computed(() => {
  const { word } = typing.value
  return word ? props.parts.filter((part) => part.path.join('.').startsWith(word)).slice(0, 5) : []
})
function takeNear(part: Part): void {
  if (typing.value.inner) taking.value?.take(part)
  else give(part, (given) => given)
  typing.value = { word: '', inner: false }
}
watch(
  () => props.field.name,
  () => (raw.value = picking.value = writing.value = false),
)
</script>

<template>
  <div class="field" @focusin="written" @focusout="left" @input="typed">
    <div class="name">
      <label :for="id">{{ field.title }}<span v-if="field.required" class="quiet"> needed</span></label>
      <span>
        <button v-if="parts.length" type="button" class="btn btn-link btn-sm p-0" :aria-label="`Data for ${field.title}`" @click="picking = !picking">
          Data
        </button>
        <button
          v-if="field.mapped ? !value || Array.isArray(value) : field.widget === 'any' && !(value && typeof value === 'object')"
          type="button"
          class="btn btn-link btn-sm p-0 ms-2"
          :aria-label="`${severally} for ${field.title}`"
          @click="emit('change', Object.fromEntries((field.mapped && Array.isArray(value) ? value : []).map((one) => [String(one), []])))">
          {{ severally }}
        </button>
        <button v-if="said" type="button" class="btn btn-link btn-sm p-0 ms-2" @click="raw = true">As expression</button>
        <button
          v-if="value !== undefined"
          type="button"
          class="btn btn-link btn-sm p-0 ms-2"
          :aria-label="`Leave out ${field.title}`"
          @click="emit('clear')">
          Leave out
        </button>
      </span>
    </div>
    <p v-if="said" :id="id" class="phrase" tabindex="0">{{ said }}</p>
    <FieldInput
      v-else
      :id="id"
      :field="field"
      :value="value"
      :known="known"
      :holds="computedText"
      :parts="parts"
      :marks="marks"
      @change="(given) => emit('change', given)"
      @each="(part, made) => emit('each', part, made)" />
    <p v-if="near.length" class="near" role="group" aria-label="Data of that name">
      <button v-for="part in near" :key="part.path.join('.')" type="button" class="btn btn-link btn-sm" @click="takeNear(part)">
        {{ partSaid(part) }} <span class="quiet">{{ brief(part.value) }}</span>
      </button>
    </p>
    <DataOffers v-if="picking" :parts="parts" @take="take" @leave="picking = false" />
    <p v-if="used.length" class="quiet small">with {{ used.join('; ') }}</p>
    <p v-if="field.about" class="quiet small">{{ field.about }}</p>
  </div>
</template>

<style scoped>
.field {
  margin-bottom: 0.7rem;
}
.name {
  display: flex;
  justify-content: space-between;
}
.name label {
  font-weight: 600;
}
.phrase {
  display: inline-block;
  margin: 0;
  padding: 0.15rem 0.6rem;
  border: 1px solid var(--relay-line);
  border-radius: 0.25rem;
  background: var(--bs-tertiary-bg);
}
.near {
  display: flex;
  flex-wrap: wrap;
  gap: 0 0.6rem;
  margin: 0.1rem 0 0;
}
.near button {
  padding: 0;
  text-align: left;
}
.small {
  font-size: 0.85rem;
  margin: 0.1rem 0 0;
}
</style>
