<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, data } from '../api/client'
import SchemaForm from '../components/SchemaForm.vue'
import { every } from '../lib/lists'
import ChannelExample from './ChannelExample.vue'
import ChannelTry from './ChannelTry.vue'
import type { Schema } from './fields'

/** What a channel beside the page is set up with, and tries of it as it is written here. */
const props = defineProps<{ channel: string; given: Record<string, unknown>; known: Record<string, string[]> }>()
const emit = defineEmits<{ change: [given: Record<string, unknown>] }>()
const channels = useQuery({
  queryKey: ['channels'],
  staleTime: Infinity,
  queryFn: () => every((query) => data(api.GET('/api/v1/channels', { params: { query } }))),
})
const schema = computed(() => channels.data.value?.find((one) => one.name === props.channel)?.input as Schema | undefined)
</script>

<template>
  <ChannelExample v-if="channel === 'by_example'" @made="(made) => emit('change', { ...given, ...made })" />
  <fieldset v-if="schema" class="with">
    <legend>What {{ channel.replace(/_/g, ' ') }} needs</legend>
    <SchemaForm :schema="schema" :value="given" :known="known" @change="(value) => emit('change', value)" />
    <ChannelTry :channel="channel" :given="given" />
  </fieldset>
  <p v-else-if="channels.data.value" class="warned">
    There is no channel {{ channel }}; there is page, {{ channels.data.value.map((one) => one.name).join(', ') }}.
  </p>
</template>

<style scoped>
.with {
  border-left: 3px solid var(--relay-line);
  padding-left: 0.8rem;
  margin-bottom: 1rem;
}
legend {
  font-size: 1rem;
}
</style>
