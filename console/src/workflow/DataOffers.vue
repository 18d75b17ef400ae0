<script setup lang="ts">
import { computed, onMounted, ref, useTemplateRef } from 'vue'
import { useChoosing } from '../lib/choosing'
import { brief, type Part, said } from './data'

const props = defineProps<{ parts: Part[] }>()
const emit = defineEmits<{ take: [part: Part]; leave: [] }>()
const typed = ref('')
const field = useTemplateRef<HTMLInputElement>('field')
onMounted(() => field.value?.focus())
const found = computed(() => {
  const words = typed.value
    .toLowerCase()
    .split(/[\s.]+/)
    .filter(Boolean)
  return props.parts.filter((part) => words.every((word) => part.path.join(' ').toLowerCase().includes(word))).slice(0, 60)
})
function take(part: Part | undefined): void {
  if (part) emit('take', part)
}
const { at, key } = useChoosing(
  () => found.value.length,
  (n) => take(found.value[n]),
  () => emit('leave'),
)
</script>

<template>
  <div class="data" role="group" aria-label="Data from the run">
    <input
      ref="field"
      v-model="typed"
      class="form-control form-control-sm"
      role="combobox"
      aria-expanded="true"
      aria-controls="parts"
      :aria-activedescendant="`part-${at}`"
      aria-label="Which data"
      placeholder="Type a name"
      autocomplete="off"
      @input="at = 0"
      @keydown="key"
      @blur="emit('leave')" />
    <ul id="parts" role="listbox" aria-label="Parts">
      <li
        v-for="(part, n) in found"
        :id="`part-${n}`"
        :key="part.path.join('.')"
        role="option"
        :aria-selected="n === at"
        :class="{ at: n === at }"
        :style="{ paddingLeft: `${part.path.length * 0.7}rem` }"
        @mousedown.prevent="emit('take', part)">
        {{ said(part) }} <span class="quiet">{{ brief(part.value) }}</span>
      </li>
      <li v-if="!found.length" class="quiet">Nothing is called so here.</li>
    </ul>
  </div>
</template>

<style scoped>
.data {
  margin: 0.2rem 0 0.5rem;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
  border: 1px solid var(--relay-line);
  border-top: 0;
  max-height: 16rem;
  overflow-y: auto;
}
li {
  padding: 0.15rem 0.6rem;
  cursor: pointer;
  overflow-wrap: anywhere;
}
.at {
  background: var(--bs-tertiary-bg);
}
</style>
