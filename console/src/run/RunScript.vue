<script setup lang="ts">
import { computed, ref } from 'vue'
import StateMark from '../components/StateMark.vue'
import { money } from '../lib/format'
import { between, duration } from '../lib/times'
import ItemPicker from './ItemPicker.vue'
import { type Brief, type Line, type Loop, type Row, rows } from './timeline'

const props = defineProps<{ run: string; lines: Line[]; spans: Brief[]; loops: Loop[]; from: number; to: number; chosen: string; live: boolean }>()
const emit = defineEmits<{ choose: [path: string]; item: [path: string] }>()

const shown = computed(() => rows(props.lines, props.spans, props.loops, props.from, props.to))
const percent = (share: number) => `${(share * 100).toFixed(3)}%`
const took = (span: Brief) => duration(between(span.started, span.ended ?? (span.state === 'running' ? new Date(props.to).toISOString() : null)))
const picking = ref('')
const spends = computed(() => props.spans.some((span) => span.tokens || span.money || span.unpriced))

/** ↑ and ↓ go from line to line, as in a text. */
function walk(event: KeyboardEvent, index: number, by: number): void {
  event.preventDefault()
  const list = shown.value
  for (let at = index + by; at >= 0 && at < list.length; at += by) {
    const span = list[at]?.span
    if (!span) continue
    emit('choose', span.path)
    const table = (event.currentTarget as HTMLElement).closest('.run-script')
    table?.querySelector<HTMLElement>(`[data-at="${at}"]`)?.focus()
    return
  }
}
const place = (row: Row) => `item ${row.loop!.chosen + 1} of ${row.loop!.all ?? row.loop!.ended}`
const word = (row: Row) => (row.loop!.kind === 'repeat' ? place(row).replace('item', 'round') : place(row))
const many = (row: Row) => (row.loop?.all ?? row.loop?.ended ?? 0) > 1 || (row.loop?.chosen ?? 0) > 0
</script>

<template>
  <div class="run-script" :class="{ spends }" role="table" aria-label="The script as it went">
    <div class="row-line heads" role="row">
      <span role="columnheader">Step</span><span v-if="spends" role="columnheader" class="wide-only num">Tokens</span
      ><span v-if="spends" role="columnheader" class="wide-only num">Money</span><span role="columnheader" class="num">Took</span>
      <span role="columnheader" class="wide-only scale d-flex"
        ><span>0</span><span>{{ duration((to - from) / 1000) }}</span></span
      >
    </div>
    <template v-for="(row, index) in shown" :key="row.line.path">
      <div
        class="row-line"
        role="row"
        :class="{ faint: !row.taken, chosen: row.span?.path === chosen, arm: row.line.kind === 'arm' || row.line.kind === 'strand' }">
        <span role="cell" class="what" :style="{ paddingLeft: `${Math.min(row.line.depth, 12) * 1.2}rem` }">
          <span class="number me-2">{{ row.line.number }}</span>
          <button
            v-if="row.span"
            type="button"
            class="sentence"
            :data-at="index"
            @click="emit('choose', row.span.path)"
            @keydown.up="walk($event, index, -1)"
            @keydown.down="walk($event, index, 1)">
            <StateMark :state="row.span.state" bare /> {{ row.line.sentence }}
            <span v-if="row.span.tried > 1" class="tries">{{ row.span.tried }} attempts</span>
          </button>
          <span v-else class="sentence">{{ row.line.sentence }}</span>
          <button
            v-if="row.loop && many(row)"
            type="button"
            class="items"
            :aria-expanded="picking === row.loop.path"
            @click="picking = picking === row.loop.path ? '' : row.loop.path">
            {{ word(row) }}<span v-if="row.loop.failed" class="failed">, {{ row.loop.failed }} failed</span>
          </button>
        </span>
        <span v-if="spends" role="cell" class="wide-only num">{{ row.span?.tokens || '' }}</span>
        <span v-if="spends" role="cell" class="wide-only num">{{
          row.span && (row.span.money || row.span.unpriced) ? money(row.span.money, row.span.unpriced) : ''
        }}</span>
        <span role="cell" class="num">{{ row.span?.started && row.taken ? took(row.span) : '' }}</span>
        <span role="cell" class="wide-only track">
          <span
            v-for="(bar, at) in row.bars"
            :key="at"
            class="bar"
            :class="bar.kind"
            :title="bar.title"
            :style="{ left: percent(bar.from), width: `max(3px, ${percent(bar.to - bar.from)})` }" />
        </span>
      </div>
      <div v-if="row.loop && picking === row.loop.path" role="row">
        <div role="cell">
          <ItemPicker :run="run" :loop="row.loop" :live="live" @choose="emit('item', $event)" @close="picking = ''" />
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.row-line {
  display: grid;
  grid-template-columns: minmax(14rem, 2.2fr) 4.2rem minmax(5rem, 1fr);
  gap: 0 0.6rem;
  align-items: center;
  padding: 0.2rem 0.4rem;
  border-bottom: 1px solid var(--relay-line);
  content-visibility: auto;
  contain-intrinsic-size: auto 1.9rem;
}
.spends .row-line {
  grid-template-columns: minmax(14rem, 2.2fr) 3.2rem 4rem 4.2rem minmax(5rem, 1fr);
}
.heads {
  color: var(--relay-quiet);
  font-size: 0.85rem;
  font-weight: 600;
}
.scale {
  justify-content: space-between;
  font-weight: 400;
}
.what {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  min-width: 0;
}
.number {
  color: var(--relay-quiet);
  flex: 0 0 auto;
  min-width: 2.8rem;
}
.sentence {
  flex: 1 1 0;
  min-width: 8rem;
  border: 0;
  background: none;
  color: inherit;
  text-align: left;
  padding: 0;
  overflow-wrap: anywhere;
}
button.sentence:hover {
  text-decoration: underline;
}
.chosen {
  background: var(--bs-tertiary-bg);
  box-shadow: inset 3px 0 var(--bs-primary);
}
.faint {
  color: var(--relay-quiet);
}
.arm .sentence {
  font-style: italic;
}
.tries {
  color: var(--relay-waiting);
  font-weight: 550;
  white-space: nowrap;
  margin-left: 0.3rem;
}
.items {
  border: 1px solid var(--relay-line);
  background: none;
  color: inherit;
  border-radius: 0.25rem;
  padding: 0 0.45rem;
  font-size: 0.85rem;
  white-space: nowrap;
}
.items .failed {
  color: var(--relay-failed);
  font-weight: 550;
}
.track {
  position: relative;
  height: 1.1rem;
  border-left: 1px solid var(--relay-line);
  border-right: 1px solid var(--relay-line);
}
.bar {
  position: absolute;
  top: 0.2rem;
  height: 0.7rem;
  border-radius: 1px;
  background: var(--relay-succeeded);
}
.bar.failed {
  background: var(--relay-failed);
}
.bar.lost {
  background: repeating-linear-gradient(45deg, var(--relay-failed) 0 3px, transparent 3px 6px);
}
.bar.gap {
  top: 0.45rem;
  height: 0;
  border-top: 3px dotted var(--relay-waiting);
  background: none;
  border-radius: 0;
}
.bar.wait {
  background: repeating-linear-gradient(45deg, var(--relay-waiting) 0 2px, transparent 2px 6px);
}
@media (max-width: 700px) {
  .row-line,
  .spends .row-line {
    grid-template-columns: minmax(0, 1fr) 4.5rem;
  }
}
</style>
