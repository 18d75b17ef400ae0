<script setup lang="ts">
import TimeText from './TimeText.vue'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { RouterLink } from 'vue-router'
import { api, data } from '../api/client'
import { useLive, useSoon } from '../lib/live'
import StateMark from './StateMark.vue'

/** The last runs of a workflow. */
const props = defineProps<{ workflow: string }>()
const client = useQueryClient()
const recent = useQuery({
  queryKey: ['runs', 'of', () => props.workflow],
  queryFn: () => data(api.GET('/api/v1/runs', { params: { query: { workflow: props.workflow, limit: 5 } } })),
})
const look = useSoon(() => client.invalidateQueries({ queryKey: ['runs', 'of'] }, { cancelRefetch: false }))
useLive({ run: (run) => run.workflow === props.workflow && look(), many: look })
</script>

<template>
  <h2>Last runs</h2>
  <p v-for="run in recent.data.value?.items" :key="run.id" class="mb-1">
    <StateMark :state="run.state" /> <RouterLink :to="`/runs/${run.id}`"><TimeText :at="run.created_at" /></RouterLink>
    <span class="quiet"> version {{ run.version }}{{ run.subject ? `, about ${run.subject}` : '' }}</span>
  </p>
  <p v-if="recent.data.value && !recent.data.value.items.length" class="quiet">None yet. Start one with a sample input.</p>
</template>

<style scoped>
h2 {
  margin: 1.2rem 0 0.4rem;
}
</style>
