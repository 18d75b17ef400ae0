<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, data } from '../api/client'
import { every } from '../lib/lists'

/** The page of a conversation as the newest version has it, to talk on before it is on. */
const props = defineProps<{ workflow: string; trigger: string }>()
const triggers = useQuery({
  queryKey: ['triggers', () => props.workflow, 'page'],
  retry: false,
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows/{name}/triggers', { params: { path: { name: props.workflow }, query } }))),
})
const page = computed(() => triggers.data.value?.find((one) => one.trigger === props.trigger)?.draft_page)
</script>

<template>
  <p v-if="page">
    <a class="btn btn-sm btn-outline-primary" :href="page" target="_blank" rel="noreferrer">Try the page</a>
    <span class="quiet"> as it was saved last, on or not; what is said there stands apart from all others.</span>
  </p>
  <p v-else class="quiet">Save it, and its page can be tried before it is on.</p>
</template>
