<script setup lang="ts">
import { computed } from 'vue'
import type { Line, Span } from '../api/client'
import { between, duration, money } from '../lib/format'
import { rows } from '../lib/timeline'
import StateMark from './StateMark.vue'

const props = defineProps<{ lines: Line[]; spans: Span[]; from: number; to: number; chosen: string }>()
const items = defineModel<Record<string, number>>('items', { required: true })
const emit = defineEmits<{ choose: [span: Span, line: Line] }>()

const shown = computed(() => rows(props.lines, props.spans, items.value, props.from, props.to))
const step = (path: string, by: number, of: number) => {
  items.value = { ...items.value, [path]: ((items.value[path] ?? 0) + by + of) % of }
}
const percent = (share: number) => `${(share * 100).toFixed(3)}%`
const took = (span: Span) => duration(between(span.started, span.ended ?? (span.state === 'running' ? new Date(props.to).toISOString() : null)))
</script>

<template>
  <div class="run-script" role="table" aria-label="The script as it went">
    <div class="row-line heads" role="row">
      <span role="columnheader">Step</span><span role="columnheader" class="wide-only num">Tokens</span
      ><span role="columnheader" class="wide-only num">Money</span><span role="columnheader" class="num">Took</span>
      <span role="columnheader" class="wide-only scale"
        ><span>0</span><span>{{ duration((to - from) / 1000) }}</span></span
      >
    </div>
    <div
      v-for="row in shown"
      :key="row.line.path"
      class="row-line"
      role="row"
      :class="{ faint: !row.taken, chosen: row.span?.path === chosen, arm: row.line.kind === 'arm' || row.line.kind === 'strand' }">
      <span role="cell" class="what" :style="{ paddingLeft: `${row.line.depth * 1.2}rem` }">
        <span class="number">{{ row.line.number }}</span>
        <button v-if="row.span" type="button" class="sentence" @click="emit('choose', row.span, row.line)">
          <StateMark :state="row.span.state" bare /> {{ row.line.sentence }}
          <span v-if="row.span.attempts.length > 1" class="tries">{{ row.span.attempts.length }} attempts</span>
        </button>
        <span v-else class="sentence">{{ row.line.sentence }}</span>
        <span v-if="row.rounds > 1 && row.span" class="rounds">
          <button type="button" aria-label="Item before" @click="step(row.span.path, -1, row.rounds)">‹</button>
          {{ row.line.kind === 'repeat' ? 'round' : 'item' }} {{ (items[row.span.path] ?? 0) + 1 }} of {{ row.rounds }}
          <button type="button" aria-label="Next item" @click="step(row.span.path, 1, row.rounds)">›</button>
        </span>
      </span>
      <span role="cell" class="wide-only num">{{ row.span?.tokens || '' }}</span>
      <span role="cell" class="wide-only num">{{
        row.span && (row.span.money || row.span.unpriced) ? money(row.span.money, row.span.unpriced) : ''
      }}</span>
      <span role="cell" class="num">{{ row.span?.started && row.taken ? took(row.span) : '' }}</span>
      <span role="cell" class="wide-only track">
        <span
          v-for="(bar, index) in row.bars"
          :key="index"
          class="bar"
          :class="bar.kind"
          :title="bar.title"
          :style="{ left: percent(bar.from), width: `max(3px, ${percent(bar.to - bar.from)})` }" />
      </span>
    </div>
  </div>
</template>

<style scoped>
.row-line {
  display: grid;
  grid-template-columns: minmax(18rem, 1fr) 4rem 5.5rem 5.5rem minmax(10rem, 1fr);
  gap: 0 0.75rem;
  align-items: center;
  padding: 0.2rem 0.4rem;
  border-bottom: 1px solid var(--relay-line);
}
.heads {
  color: var(--relay-quiet);
  font-size: 0.85rem;
  font-weight: 600;
}
.scale {
  display: flex;
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
  flex: 0 0 2.8rem;
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
  opacity: 0.5;
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
.rounds {
  color: var(--relay-quiet);
  font-size: 0.85rem;
  white-space: nowrap;
}
.rounds button {
  border: 1px solid var(--relay-line);
  background: none;
  color: inherit;
  border-radius: 0.25rem;
  padding: 0 0.4rem;
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
  .row-line {
    grid-template-columns: minmax(0, 1fr) 4.5rem;
  }
}
</style>
