<script setup lang="ts">
import { computed, nextTick, ref, useTemplateRef, watch } from 'vue'
import { isCurl } from '../edit/curl'
import { stepsOf } from '../edit/paste'
import { freeName } from '../edit/scope'
import { nameKey, type Path } from '../edit/source'
import AddLine from './AddLine.vue'
import { asText, type Offer } from './catalogue'
import { useDrag } from './drag'
import type { Draft } from './draft'
import GivenParts from './GivenParts.vue'
import { useHands } from './hands'
import NameLine from './NameLine.vue'
import type { Row } from './rows'
import ScriptLine from './ScriptLine.vue'
import SeveralLines from './SeveralLines.vue'
import { givenBy, useTaking } from './taking'

const props = defineProps<{ draft: Draft; rows: Row[]; marks: Map<string, string>; states: Map<string, string>; offers: Offer[] }>()
const chosen = defineModel<string>('chosen', { required: true })
const emit = defineEmits<{ curl: [text: string]; told: [text: string]; extract: [paths: Path[]] }>()
const list = useTemplateRef<HTMLElement>('list')
const adding = ref<string | null>(null)
const naming = ref<string | null>(null)
const free = ref(false)
/** What may go into the field that is being written, by the line that it comes from. */
const taking = useTaking()
const given = computed(() => (taking.value ? givenBy(props.rows, taking.value.parts) : new Map<string, never[]>()))

/** Where a choice of several lines began; empty for one line. */
const anchor = ref('')
function focus(path: string, from = ''): void {
  anchor.value = from === path ? '' : from
  chosen.value = path
  // A line that is new stands in the script when the document was looked at.
  waiting.value = path
  settle()
}
const waiting = ref('')
function settle(): void {
  void nextTick(() => {
    const line = waiting.value ? list.value?.querySelector<HTMLElement>(`[data-path="${waiting.value}"]`) : null
    if (!line) return
    line.focus()
    waiting.value = ''
  })
}
watch(() => props.rows, settle)
const hands = useHands(
  props.draft,
  () => props.rows,
  chosen,
  anchor,
  focus,
  (text) => emit('told', text),
)
const row = hands.row
const { down, dropped } = useDrag(
  list,
  () => props.rows,
  () => props.draft.source.value,
  (path) => void (hands.marked.value.has(path) || focus(path)),
  hands.move,
)

function add(text: string, instead = false): void {
  const behind = adding.value ?? chosen.value
  adding.value = null
  hands.add(text, behind, instead)
}
function curl(text: string): void {
  adding.value = null
  emit('curl', text)
}
function leave(path: string): void {
  adding.value = naming.value = null
  focus(path)
}
function rename(line: Row, name: string): void {
  naming.value = null
  if (name !== line.step) hands.rename(line.path, name)
  else focus(line.path)
}
function beginNaming(): void {
  if (row.value?.own) naming.value = row.value.path
}
function pasted(event: ClipboardEvent): void {
  const text = event.clipboardData?.getData('text/plain') ?? ''
  if (isCurl(text)) emit('curl', text)
  else if (stepsOf(text)) add(text)
  else return
  event.preventDefault()
}
/** An agent document has no lines to add. */
const isAgent = computed(() => !!props.draft.source.value && nameKey(props.draft.source.value) === 'agent')
/** What a line is drawn from: one that has nothing new of it is left as it is, however many there are. */
function drawn(line: Row): unknown[] {
  const { path } = line
  const is = [chosen.value, adding.value, naming.value].map((one) => one === path)
  const reached = !row.value && line === props.rows[0]
  return [
    line,
    ...is,
    reached,
    dropped(path),
    hands.marked.value.has(path),
    props.marks.get(path),
    props.states.get(path),
    given.value.get(path),
    props.offers,
  ]
}
const loop = () => hands.wrap({ step: freeName(props.draft.source.value, 'each_one'), each: '${ [] }', as: 'item' })
function handsOf(event: KeyboardEvent): Record<string, () => unknown> {
  const { draft } = props
  if (event.ctrlKey || event.metaKey) {
    return { z: event.shiftKey ? draft.redo : draft.undo, y: draft.redo, c: () => hands.copy(false), x: () => hands.copy(true) }
  }
  if (event.shiftKey && event.key.startsWith('Arrow')) return { ArrowUp: () => hands.extend(-1), ArrowDown: () => hands.extend(1) }
  if (event.altKey) return { ArrowUp: () => hands.shift(-1), ArrowDown: () => hands.shift(1) }
  const indents: Record<string, () => unknown> = !free.value && row.value?.own ? { Tab: () => hands.indent(event.shiftKey) } : {}
  return {
    ArrowUp: () => hands.step(-1),
    ArrowDown: () => hands.step(1),
    Home: () => hands.step(-1e6),
    End: () => hands.step(1e6),
    Enter: () => (adding.value = chosen.value),
    F2: beginNaming,
    Delete: hands.remove,
    Escape: () => (free.value = true),
    ...indents,
  }
}
function key(event: KeyboardEvent): void {
  const hand = handsOf(event)[event.key]
  if (!hand) return
  event.preventDefault()
  hand()
}
watch(chosen, () => {
  free.value = false
  taking.value = null
})
defineExpose({
  focus,
  take: (offer: Offer) => add(asText(offer.make(props.draft.source.value)), true),
  begin: () => (adding.value = chosen.value || 'result'),
})
</script>

<template>
  <SeveralLines :count="hands.marked.value.size" @extract="emit('extract', hands.several.value)" @loop="loop" @remove="hands.remove" />
  <ol ref="list" class="script" aria-label="Lines" @paste="pasted" @pointerdown="down">
    <li v-for="line in rows" :key="line.path" v-memo="drawn(line)" :style="{ '--depth': line.depth }">
      <ScriptLine
        :class="dropped(line.path)"
        :line="line"
        :chosen="line.path === chosen"
        :among="hands.marked.value.has(line.path)"
        :reached="line.path === chosen || (!row && line === rows[0])"
        :mark="marks.get(line.path)"
        :state="states.get(line.path)"
        @click="focus(line.path, $event.shiftKey ? anchor || chosen : '')"
        @dblclick="beginNaming"
        @keydown="key" />
      <GivenParts v-if="given.has(line.path)" :parts="given.get(line.path)!" :into="taking!.title" @take="(part) => taking!.take(part)" />
      <NameLine v-if="naming === line.path" :name="line.step" @rename="(name) => rename(line, name)" @leave="leave(line.path)" />
      <AddLine v-if="adding === line.path" :offers="offers" :draft="draft" @add="add" @curl="curl" @leave="leave(line.path)" />
      <button
        v-else-if="line.path === chosen && line.kind !== 'input' && line.kind !== 'trigger' && !isAgent"
        type="button"
        class="plus"
        :aria-label="line.kind === 'result' ? 'Add a line before this one' : 'Add a line behind this one'"
        @click="adding = line.path">
        +
      </button>
    </li>
  </ol>
</template>

<style scoped>
.script {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  padding-left: calc(var(--depth) * 1.4rem);
  position: relative;
}
.plus {
  position: absolute;
  left: -0.9rem;
  bottom: -0.7rem;
  z-index: 1;
  border: 1px solid var(--relay-line);
  border-radius: 50%;
  width: 1.4rem;
  height: 1.4rem;
  line-height: 1;
  padding: 0;
  background: var(--bs-body-bg);
  color: inherit;
}
</style>
