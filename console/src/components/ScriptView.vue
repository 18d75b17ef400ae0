<script setup lang="ts">
import type { Line } from '../api/client'

defineProps<{ lines: Line[]; chosen?: string }>()
const emit = defineEmits<{ choose: [line: Line] }>()
</script>

<template>
  <ol class="script">
    <li v-for="line in lines" :key="line.path" :style="{ '--depth': line.depth }">
      <button type="button" :class="{ arm: line.kind === 'arm', chosen: chosen === line.path }" @click="emit('choose', line)">
        <span class="number">{{ line.number }}</span>
        <span class="sentence"
          >{{ line.sentence }} <span v-if="line.kind !== 'arm'" class="step mono">{{ line.step }}</span></span
        >
        <span v-if="line.note && line.kind !== 'arm'" class="note">{{ line.note }}</span>
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
}
button {
  display: grid;
  grid-template-columns: 3.2rem 1fr;
  width: 100%;
  text-align: left;
  border: 0;
  background: none;
  color: inherit;
  padding: 0.2rem 0.4rem;
  border-radius: 0.25rem;
}
button:hover,
button.chosen {
  background: var(--bs-tertiary-bg);
}
.number {
  color: var(--relay-quiet);
}
.arm .sentence {
  font-style: italic;
}
.step {
  color: var(--relay-quiet);
  margin-left: 0.4rem;
}
.note {
  grid-column: 2;
  color: var(--relay-quiet);
  font-size: 0.85rem;
}
</style>
