<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { api, data } from '../api/client'
import { moment } from '../lib/format'

/** Somebody else saved while a text was being written: both texts, and what may be done. */
const props = defineProps<{ name: string; mine: string }>()
const emit = defineEmits<{ over: [version: number]; take: [] }>()
const newest = useQuery({
  queryKey: ['workflow', props.name, 'newest'],
  staleTime: 0,
  queryFn: () => data(api.GET('/api/v1/workflows/{name}', { params: { path: { name: props.name } } })),
})
const theirs = computed(() => newest.data.value?.text ?? '')
const about = computed(() => newest.data.value?.versions[0])
function lines(text: string, other: string): { text: string; only: boolean }[] {
  const there = new Set(other.split('\n'))
  return text.split('\n').map((line) => ({ text: line, only: !there.has(line) }))
}
const sides = computed(() => [
  { title: 'Yours, not saved', lines: lines(props.mine, theirs.value) },
  {
    title: about.value ? `Version ${about.value.number}, of ${about.value.author}, ${moment(about.value.created_at)}` : 'Theirs',
    lines: lines(theirs.value, props.mine),
  },
])
</script>

<template>
  <section v-if="about" class="conflict" role="alert">
    <p>
      <strong>Somebody else has saved meanwhile.</strong> Nothing is lost: version {{ about.number }} stays, and so does your text here until you
      choose. Lines that only one of the two has are marked.
    </p>
    <div class="sides">
      <div v-for="side in sides" :key="side.title">
        <h3>{{ side.title }}</h3>
        <pre><span v-for="(line, index) in side.lines" :key="index" :class="{ only: line.only }">{{ line.text }}
</span></pre>
      </div>
    </div>
    <BButton size="sm" variant="primary" @click="emit('over', about.number)">Save yours behind it</BButton>
    <BButton size="sm" variant="link" @click="emit('take')">Take theirs, and let yours go</BButton>
  </section>
</template>

<style scoped>
.conflict {
  border-left: 3px solid var(--relay-waiting);
  padding-left: 1rem;
  margin: 0.75rem 0;
}
.sides {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(18rem, 1fr));
  gap: 1rem;
}
h3 {
  font-size: 1rem;
}
pre {
  max-height: 24rem;
  margin-bottom: 0.75rem;
  padding: 0.5rem;
  background: var(--bs-tertiary-bg);
}
.only {
  background: var(--relay-marked, rgb(200 150 60 / 25%));
}
</style>
