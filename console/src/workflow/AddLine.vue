<script setup lang="ts">
import { computed, onMounted, ref, useTemplateRef } from 'vue'
import { isCurl } from '../edit/curl'
import { stepsOf } from '../edit/paste'
import { useChoosing } from '../lib/choosing'
import { asText, fitting, type Offer, sketch } from './catalogue'
import type { Draft } from './draft'

const props = defineProps<{ offers: Offer[]; draft: Draft }>()
const emit = defineEmits<{ add: [text: string, instead?: boolean]; curl: [text: string]; leave: [] }>()
const typed = ref('')
const field = useTemplateRef<HTMLInputElement>('field')
const RECENT = 'oak-relay recent lines'
const recent = ref<string[]>(JSON.parse(window.localStorage.getItem(RECENT) ?? '[]') as string[])
const found = computed(() => fitting(props.offers, typed.value, recent.value).slice(0, 9))
const words = computed(() => typed.value.trim())
onMounted(() => field.value?.focus())

function take(offer: Offer | undefined): void {
  const source = props.draft.source.value
  if (!offer) {
    if (words.value) emit('add', asText(sketch(source, words.value)))
    else emit('leave')
    return
  }
  recent.value = [offer.key, ...recent.value.filter((one) => one !== offer.key)].slice(0, 20)
  window.localStorage.setItem(RECENT, JSON.stringify(recent.value))
  emit('add', asText(offer.make(source)), true)
}
const { at, key } = useChoosing(
  () => found.value.length + 1,
  (n) => take(found.value[n]),
  () => emit('leave'),
)
function pasted(event: ClipboardEvent): void {
  const text = event.clipboardData?.getData('text/plain') ?? ''
  if (isCurl(text)) emit('curl', text)
  else if (stepsOf(text)) emit('add', text)
  else return
  event.preventDefault()
  event.stopPropagation()
}
</script>

<template>
  <div class="add" role="group" aria-label="A new line">
    <input
      ref="field"
      v-model="typed"
      class="form-control form-control-sm"
      role="combobox"
      aria-label="What the new line does"
      aria-expanded="true"
      aria-controls="offers"
      :aria-activedescendant="`offer-${at}`"
      placeholder="Type a few letters, or say it in words"
      autocomplete="off"
      @input="at = 0"
      @keydown="key"
      @paste="pasted" />
    <ul id="offers" role="listbox" aria-label="What it may be">
      <li
        v-for="(offer, n) in found"
        :id="`offer-${n}`"
        :key="offer.key"
        role="option"
        :aria-selected="n === at"
        :class="{ at: n === at }"
        @mousedown.prevent="take(offer)">
        {{ offer.title }} <span class="quiet">{{ offer.about }}</span>
      </li>
      <li
        v-if="words"
        :id="`offer-${found.length}`"
        role="option"
        :aria-selected="at === found.length"
        :class="{ at: at === found.length }"
        @mousedown.prevent="take(undefined)">
        “{{ words }}” <span class="quiet">a line in plain words, to be written later</span>
      </li>
    </ul>
  </div>
</template>

<style scoped>
.add {
  margin: 0.2rem 0 0.4rem 3.2rem;
  max-width: 34rem;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
  border: 1px solid var(--relay-line);
  border-top: 0;
  max-height: 20rem;
  overflow-y: auto;
}
li {
  padding: 0.2rem 0.6rem;
  cursor: pointer;
}
.at {
  background: var(--bs-tertiary-bg);
}
</style>
