<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { expression } from '../edit/expressions'
import { type Part, phraseOf } from './data'
import DataOffers from './DataOffers.vue'
import { type Schema, shownAs, typed } from './fields'
import { type Made, useTaking } from './taking'

/** A mapping with names of one's own: a row for each. */
const props = defineProps<{ id: string; value: Record<string, unknown>; parts: Part[]; of?: Schema }>()
const emit = defineEmits<{ change: [value: Record<string, unknown>]; each: [part: Part, made: Made] }>()
/** Lists of texts: one a line. */
const lists = computed(() => props.of?.type === 'array')
interface Pair {
  name: string
  text: string
}
const pairs = ref<Pair[]>([])
const picking = ref(-1)
watch(
  // What it says, not which object it is: what is being typed stays when only that is another.
  () => JSON.stringify(props.value),
  (given) => {
    const now = JSON.parse(given) as Record<string, unknown>
    if (given !== JSON.stringify(made())) pairs.value = Object.entries(now).map(([name, value]) => ({ name, text: textOf(value) }))
  },
  { immediate: true },
)
function textOf(value: unknown): string {
  return lists.value && Array.isArray(value) ? value.map(shownAs).join('\n') : shownAs(value)
}
function valueOf(text: string): unknown {
  if (!lists.value) return props.of?.type === 'string' ? text : typed(text)
  const lines = text.split('\n').map((line) => line.trim())
  return lines.filter(Boolean)
}
function made(): Record<string, unknown> {
  return Object.fromEntries(pairs.value.filter((one) => one.name).map((one) => [one.name, valueOf(one.text)]))
}
const say = () => emit('change', made())
function remove(index: number): void {
  pairs.value.splice(index, 1)
  say()
}
const taking = useTaking()
function take(part: Part, index: number): void {
  const pair = pairs.value[index]
  picking.value = -1
  if (!pair) return
  pair.name ||= part.path.at(-1)!
  const put = (given: string) => {
    pair.text = given
    return made()
  }
  if (part.each) emit('each', part, put)
  else emit('change', put(expression(part.path)))
}
</script>

<template>
  <div :id="id" class="pairs">
    <template v-for="(pair, n) in pairs" :key="n">
      <div class="pair">
        <input v-model="pair.name" class="form-control form-control-sm mono" :aria-label="`Name ${n + 1}`" placeholder="name" @change="say" />
        <input
          v-if="of?.writeOnly"
          v-model="pair.text"
          type="password"
          autocomplete="new-password"
          class="form-control form-control-sm"
          :aria-label="`Value of ${pair.name || n + 1}`"
          placeholder="its secret; empty: as it is"
          @change="say" />
        <textarea
          v-else
          v-model="pair.text"
          :rows="pair.text.split('\n').length"
          class="form-control form-control-sm"
          :aria-label="`Value of ${pair.name || n + 1}`"
          :title="phraseOf(pair.text) ?? undefined"
          :placeholder="lists ? 'one a line' : 'value'"
          @focusin.stop="taking = { title: pair.name, parts, take: (part) => take(part, n) }"
          @change="say" />
        <button
          v-if="parts.length"
          type="button"
          class="btn btn-link btn-sm"
          :aria-label="`Data for ${pair.name || n + 1}`"
          @click="picking = picking === n ? -1 : n">
          Data
        </button>
        <button type="button" class="btn btn-link btn-sm" :aria-label="`Remove ${pair.name || n + 1}`" @click="remove(n)">✕</button>
      </div>
      <DataOffers v-if="picking === n" :parts="parts" @take="(part) => take(part, n)" @leave="picking = -1" />
    </template>
    <button type="button" class="btn btn-link btn-sm p-0" @click="pairs.push({ name: '', text: '' })">Add a value</button>
  </div>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: 1fr 2fr auto auto;
  gap: 0.3rem;
  margin-bottom: 0.2rem;
}
</style>
