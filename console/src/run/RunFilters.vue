<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { api, data } from '../api/client'
import { every } from '../lib/lists'
import { type Filter, KEYS } from './runs'

/** Which runs are shown. */
const filter = defineModel<Filter>({ required: true })
function field(key: (typeof KEYS)[number]) {
  return computed({
    get: () => filter.value[key] ?? '',
    set: (value) => (filter.value = { ...filter.value, [key]: value || undefined }),
  })
}
const [workflow, state, subject, text, kind] = KEYS.map(field)
const [from, until] = (['from', 'until'] as const).map(field)
const ranged = computed(() => !!(filter.value.from ?? filter.value.until))
const time = computed({
  get: () => (ranged.value ? 'range' : (filter.value.since ?? '')),
  set: (value) => {
    const day = new Date(new Date().setHours(0, 0, 0, 0) - new Date().getTimezoneOffset() * 60_000).toISOString().slice(0, 16)
    const none = { from: undefined, until: undefined, since: undefined }
    filter.value = { ...filter.value, ...none, ...(value === 'range' ? { from: day } : { since: value || undefined }) }
  },
})
const workflows = useQuery({
  queryKey: ['workflows', 'all'],
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows', { params: { query } }))),
})
const names = computed(() => [
  { value: '', text: 'any workflow' },
  ...(workflows.data.value ?? []).map((w) => ({ value: w.name, text: w.title || w.name })),
])
const states = [
  { value: '', text: 'any state' },
  { value: 'open', text: 'not ended' },
  ...['queued', 'running', 'waiting', 'succeeded', 'failed', 'cancelled', 'set aside'].map((s) => ({ value: s, text: s })),
  { value: 'unmended', text: 'failed, not mended' },
  { value: 'held', text: 'held after a restore' },
]
const KINDS =
  'invalid denied missing busy unavailable timeout out_of_credit refused cut_off too_long wrong_shape over_limit no_progress unkept diverged failed'
const kinds = [{ value: '', text: 'any error' }, ...KINDS.split(' ').map((k) => ({ value: k, text: k }))]
const times = [
  { value: '', text: 'any time' },
  { value: '1', text: 'last hour' },
  { value: '24', text: 'last day' },
  { value: '168', text: 'last week' },
  { value: 'range', text: 'from … to …' },
]
</script>

<template>
  <div class="filters">
    <BFormSelect v-model="workflow" :options="names" size="sm" aria-label="Workflow" />
    <BFormSelect v-model="state" :options="states" size="sm" aria-label="State" />
    <BFormSelect v-model="kind" :options="kinds" size="sm" aria-label="Kind of error" />
    <BFormSelect v-model="time" :options="times" size="sm" aria-label="Time" />
    <template v-if="ranged">
      <BFormInput v-model.lazy="from" type="datetime-local" size="sm" aria-label="From" title="from" />
      <BFormInput v-model.lazy="until" type="datetime-local" size="sm" aria-label="Until" title="until" />
    </template>
    <BFormInput v-model.lazy="subject" size="sm" placeholder="about whom or what" aria-label="Subject" />
    <BFormInput
      v-model.lazy="text"
      type="search"
      size="sm"
      placeholder="words in it"
      aria-label="Words in it"
      title="words of its input, its result, its error, or a part of its id" />
  </div>
</template>

<style scoped>
.filters {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  margin-left: auto;
}
.filters > * {
  width: auto;
  min-width: 8.5rem;
  max-width: 13rem;
}
@media (max-width: 700px) {
  .filters {
    margin-left: 0;
    width: 100%;
  }
  .filters > * {
    flex: 1 1 45%;
    min-width: 0;
  }
}
</style>
