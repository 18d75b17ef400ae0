<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { computed, defineAsyncComponent, ref } from 'vue'
import { api, data } from '../api/client'
import { moment } from '../lib/times'
import DifferenceList from './DifferenceList.vue'

/** Somebody else saved while a text was being written: what they changed, both texts side by side, and what may be done. */
const props = defineProps<{ name: string; mine: string; base: number | undefined }>()
const emit = defineEmits<{ over: [version: number, text: string]; take: [] }>()
const MergeText = defineAsyncComponent(() => import('./MergeText.vue'))
const load = (version?: number) => data(api.GET('/api/v1/workflows/{name}', { params: { path: { name: props.name }, query: { version } } }))
const newest = useQuery({ queryKey: ['workflow', props.name, 'newest'], staleTime: 0, queryFn: () => load() })
const base = useQuery({
  queryKey: ['workflow', props.name, 'base', () => props.base],
  enabled: () => !!props.base,
  queryFn: () => load(props.base),
})
const about = computed(() => newest.data.value?.versions[0])
const merged = ref(props.mine)
</script>

<template>
  <section v-if="about && newest.data.value" class="conflict" role="alert">
    <p>
      <strong>Somebody else has saved meanwhile.</strong> Nothing is lost: version {{ about.number }} stays, and so does your text here until you
      choose.
    </p>
    <template v-if="base.data.value">
      <h2>What {{ about.author }} changed, {{ moment(about.created_at) }}{{ about.remark ? `: ${about.remark}` : '' }}</h2>
      <DifferenceList :before="base.data.value.text" :after="newest.data.value.text" />
    </template>
    <MergeText
      v-model:right="merged"
      :left="newest.data.value.text"
      :left-title="`Version ${about.number}, of ${about.author}`"
      right-title="Yours; write in it, or take parts over by their arrows" />
    <BButton size="sm" variant="primary" @click="emit('over', about.number, merged)">Save yours behind it</BButton>
    <BButton size="sm" variant="link" @click="emit('take')">Take theirs, and let yours go</BButton>
  </section>
</template>

<style scoped>
.conflict {
  border-left: 3px solid var(--relay-waiting);
  padding-left: 1rem;
  margin: 0.75rem 0;
}
h2 {
  font-size: 1rem;
}
</style>
