<script setup lang="ts">
import type { Row } from './rows'

defineProps<{ line: Row; chosen: boolean; among: boolean; reached: boolean; mark: string | undefined; state: string | undefined }>()
const SIGNS: Record<string, string> = { succeeded: '✓', failed: '✗' }
</script>

<template>
  <button
    type="button"
    :data-path="line.path"
    :tabindex="reached ? 0 : -1"
    :aria-current="chosen ? 'true' : undefined"
    :class="[line.kind, { chosen, among, own: line.own }]">
    <span class="number">{{ line.number }}</span>
    <span class="sentence">
      {{ line.sentence }} <span v-if="line.own" class="step mono">{{ line.step }}</span>
    </span>
    <span class="margin">
      <span v-if="mark" :class="mark">{{ mark === 'error' ? '✗ mistake' : '! look' }}</span>
      <span v-if="state" :class="state" :title="`its last try ${state}`"
        >{{ SIGNS[state] ?? '◷' }}<span class="visually-hidden"> {{ state }}</span></span
      >
    </span>
    <span v-if="line.note && line.kind !== 'arm'" class="note">{{ line.note }}</span>
  </button>
</template>

<style scoped>
button {
  display: grid;
  content-visibility: auto;
  contain-intrinsic-size: auto 1.9rem;
  grid-template-columns: minmax(3.2rem, max-content) 1fr auto;
  width: 100%;
  text-align: left;
  border: 0;
  background: none;
  color: inherit;
  padding: 0.2rem 0.4rem;
  border-radius: 0.25rem;
}
button:hover,
.chosen,
.among {
  background: var(--bs-tertiary-bg);
}
.above {
  box-shadow: 0 -2px var(--bs-primary);
}
.below {
  box-shadow: 0 2px var(--bs-primary);
}
.among {
  box-shadow: inset 3px 0 var(--bs-primary);
}
button:focus-visible {
  outline: 2px solid var(--bs-primary);
}
.number {
  padding-right: 0.4rem;
}
.own .number {
  touch-action: none;
  user-select: none;
  cursor: grab;
}
.number,
.step,
.note,
.input,
.trigger,
.result {
  color: var(--relay-quiet);
}
.arm .sentence,
.strand .sentence {
  font-style: italic;
}
.todo .sentence {
  color: var(--relay-waiting);
}
.sentence {
  overflow-wrap: anywhere;
}
.note {
  grid-column: 2;
  font-size: 0.85rem;
}
.margin {
  font-size: 0.8rem;
  white-space: nowrap;
}
.error,
.failed {
  color: var(--relay-failed);
}
.warning,
.waiting {
  color: var(--relay-waiting);
}
.succeeded {
  color: var(--relay-succeeded);
}
</style>
