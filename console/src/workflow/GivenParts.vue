<script setup lang="ts">
import { computed, ref } from 'vue'
import { brief, type Part } from './data'

/** What a line gave, part by part, to be taken into the field that is being written. */
const props = defineProps<{ parts: Part[]; into: string }>()
const emit = defineEmits<{ take: [part: Part] }>()
const FEW = 6
const all = ref(false)
const shown = computed(() => (all.value ? props.parts : props.parts.slice(0, FEW)))
function named(part: Part): string {
  const path = part.path.length > 1 ? part.path.slice(1) : part.path
  return part.each ? `${path.at(-1)} of each` : path.join('.')
}
</script>

<template>
  <ul class="given" :aria-label="`To take into ${into}`">
    <li v-for="part in shown" :key="part.path.join('.')">
      <button type="button" @mousedown.prevent @click="emit('take', part)">
        <span class="mono">{{ named(part) }}</span> <span class="quiet">{{ brief(part.value) }}</span>
      </button>
    </li>
    <li v-if="parts.length > FEW && !all">
      <button type="button" class="quiet" @mousedown.prevent @click="all = true">{{ parts.length - FEW }} more</button>
    </li>
  </ul>
</template>

<style scoped>
.given {
  list-style: none;
  margin: 0 0 0.3rem 3.6rem;
  padding: 0 0 0 0.6rem;
  border-left: 2px solid var(--relay-running);
  font-size: 0.9rem;
}
button {
  border: 0;
  background: none;
  color: inherit;
  text-align: left;
  padding: 0.05rem 0.3rem;
  border-radius: 0.2rem;
  overflow-wrap: anywhere;
}
button:hover {
  background: var(--bs-tertiary-bg);
}
</style>
