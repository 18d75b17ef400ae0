<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, defineAsyncComponent, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { moment } from '../lib/times'
import DifferenceList from './DifferenceList.vue'

/** All versions, who saved them and why, and what differs between any of them and another, or what is written now. */
const props = defineProps<{ name: string; versions: Schemas['VersionOut'][]; shown: number; text: string; changed: boolean }>()
const emit = defineEmits<{ show: [version: number] }>()
const MergeText = defineAsyncComponent(() => import('./MergeText.vue'))
const NOW = 0
const FEW = 8
const all = ref(false)
const first = ref<number | null>(null)
const second = ref(NOW)
const asText = ref(false)
const listed = computed(() => (all.value ? props.versions : props.versions.slice(0, FEW)))
function useText(number: () => number | null) {
  return useQuery({
    queryKey: ['workflow', () => props.name, number, 'text'],
    enabled: () => !!number(),
    staleTime: Infinity,
    queryFn: async () =>
      (await data(api.GET('/api/v1/workflows/{name}', { params: { path: { name: props.name }, query: { version: number()! } } }))).text,
  })
}
const [one, other] = [useText(() => first.value), useText(() => second.value)]
const before = computed(() => one.data.value)
const after = computed(() => (second.value === NOW ? props.text : other.data.value))
const titled = (number: number) => (number === NOW ? 'What is written here' : `Version ${number}`)
</script>

<template>
  <h2>Versions</h2>
  <ul class="versions">
    <li v-for="version in listed" :key="version.number">
      <button
        type="button"
        class="btn btn-link btn-sm p-0"
        :aria-current="version.number === shown ? 'true' : undefined"
        @click="emit('show', version.number)">
        version {{ version.number }}
      </button>
      <strong v-if="version.on">, on</strong>
      <span class="quiet">, {{ moment(version.created_at) }}, {{ version.author }}</span>
      <span v-if="version.good || version.bad" class="quiet">, found good {{ version.good }} times, bad {{ version.bad }}</span>
      <template v-if="version.remark">: {{ version.remark }}</template>
      <button
        v-if="versions.length > 1 || changed"
        type="button"
        class="btn btn-link btn-sm py-0"
        :aria-expanded="first === version.number"
        @click="first = first === version.number ? null : version.number">
        What is different?
      </button>
      <div v-if="first === version.number" class="different">
        <label>
          Against
          <select v-model="second" class="form-select form-select-sm d-inline-block w-auto">
            <option :value="NOW">what is written here</option>
            <option v-for="another in versions.filter((it) => it.number !== version.number)" :key="another.number" :value="another.number">
              version {{ another.number }}
            </option>
          </select>
        </label>
        <label class="ms-3"><input v-model="asText" type="checkbox" class="form-check-input" /> as text</label>
        <template v-if="before !== undefined && after !== undefined">
          <MergeText
            v-if="asText"
            :key="`${first} ${second}`"
            :left="before"
            :right="after"
            fixed
            :left-title="titled(version.number)"
            :right-title="titled(second)" />
          <DifferenceList v-else :before="before" :after="after" />
        </template>
      </div>
    </li>
  </ul>
  <button v-if="versions.length > FEW && !all" type="button" class="btn btn-link btn-sm p-0" @click="all = true">All {{ versions.length }}</button>
</template>

<style scoped>
.versions {
  list-style: none;
  padding: 0;
}
.different {
  border-left: 2px solid var(--relay-line);
  padding: 0.3rem 0 0.3rem 0.8rem;
}
[aria-current='true'] {
  font-weight: 600;
}
</style>
