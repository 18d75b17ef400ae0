<script setup lang="ts">
import { BFormInput } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import type { Schemas } from '../api/client'

/** What a description offers, to be searched, looked at and chosen. */
type Offered = Schemas['OfferedOperationOut']
const props = defineProps<{ offered: Offered[]; shown: string; most: number }>()
const chosen = defineModel<string[]>({ required: true })
const emit = defineEmits<{ show: [key: string] }>()
const SEEN = 200
const words = ref('')
const set = computed(() => new Set(chosen.value))
const found = computed(() => {
  const asked = words.value.toLowerCase().split(/\s+/).filter(Boolean)
  return props.offered.filter((one) => {
    const text = `${one.name} ${one.key} ${one.title} ${one.group}`.toLowerCase()
    return asked.every((word) => text.includes(word))
  })
})
const more = ref(0)
const seen = computed(() => found.value.slice(0, SEEN * (more.value + 1)))
const fine = computed(() => found.value.filter((one) => !one.fault))
const allTaken = computed(() => fine.value.length > 0 && fine.value.every((one) => set.value.has(one.key)))
const REPEATS: Record<string, string> = { safe: 'safe to repeat', keyed: 'sent with a key', unsafe: 'never repeated by itself' }
function toggle(key: string): void {
  chosen.value = set.value.has(key) ? chosen.value.filter((one) => one !== key) : [...chosen.value, key]
}
function all(): void {
  const shown = new Set(fine.value.map((one) => one.key))
  const others = chosen.value.filter((key) => !shown.has(key))
  chosen.value = allTaken.value ? others : [...others, ...shown]
}
</script>

<template>
  <div class="asked">
    <BFormInput v-model="words" type="search" size="sm" maxlength="100" placeholder="find operations" aria-label="Find operations" />
    <button type="button" class="btn btn-outline-primary btn-sm" :disabled="!fine.length" @click="all">
      {{ allTaken ? `Leave out all ${fine.length}` : `Take all ${fine.length}` }}
    </button>
    <span class="quiet" role="status"
      >{{ chosen.length }} of {{ offered.length }} taken<template v-if="chosen.length > most">, at most {{ most }} may be</template></span
    >
  </div>
  <p v-if="!found.length">No operation has these words.</p>
  <ul aria-label="Operations">
    <li v-for="one in seen" :key="one.key" :class="{ on: one.key === shown }">
      <input
        type="checkbox"
        :checked="set.has(one.key)"
        :disabled="!!one.fault && !set.has(one.key)"
        :aria-label="`Take ${one.name}`"
        @change="toggle(one.key)" />
      <button type="button" :aria-pressed="one.key === shown" @click="emit('show', one.key)">
        <span class="mono">{{ one.name }}</span> {{ one.title }}
        <span class="quiet key">
          {{ one.key }}<template v-if="one.group"> · {{ one.group }}</template> · {{ REPEATS[one.repeat]
          }}<template v-if="one.pages"> · has pages</template>
        </span>
        <span v-if="one.fault" class="fault">It cannot be taken: {{ one.fault }}</span>
      </button>
    </li>
  </ul>
  <button v-if="seen.length < found.length" type="button" class="btn btn-link btn-sm" @click="more++">{{ found.length - seen.length }} more</button>
</template>

<style scoped>
.asked {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 1rem;
  align-items: center;
  margin-bottom: 0.4rem;
}
.asked .form-control {
  max-width: 16rem;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
  max-height: 32rem;
  overflow: auto;
  border: 1px solid var(--relay-line);
}
li {
  display: flex;
  gap: 0.6rem;
  align-items: flex-start;
  padding: 0.25rem 0.6rem;
  border-bottom: 1px solid var(--relay-line);
}
li:last-child {
  border-bottom: 0;
}
li.on {
  background: var(--bs-tertiary-bg);
}
li input {
  margin-top: 0.35rem;
  flex: none;
}
li button {
  flex: 1 1 0;
  min-width: 0;
  border: 0;
  background: none;
  color: inherit;
  text-align: left;
  padding: 0;
  overflow-wrap: anywhere;
}
.key {
  display: block;
  font-size: 0.85rem;
}
.fault {
  color: var(--relay-failed);
}
</style>
