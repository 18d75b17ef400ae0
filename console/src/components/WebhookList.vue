<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { moment } from '../lib/format'

const props = defineProps<{ workflow: string; hooks: Schemas['HookOut'][] }>()
const refused = useQuery({
  queryKey: ['refusals', props.workflow],
  refetchInterval: 10_000,
  queryFn: () => data(api.GET('/api/v1/workflows/{name}/refusals', { params: { path: { name: props.workflow }, query: { limit: 50 } } })),
})
const copied = ref('')
async function copy(hook: Schemas['HookOut']): Promise<void> {
  await navigator.clipboard.writeText(hook.request)
  copied.value = hook.path
}
</script>

<template>
  <div v-for="hook in hooks" :key="hook.path" class="hook">
    <p class="mono">{{ hook.methods.join(', ') }} {{ hook.url }}</p>
    <p v-if="!hook.outside" class="quiet">Only this machine reaches it: set <code>PUBLIC_URL</code> and <code>HOST</code> for senders elsewhere.</p>
    <details>
      <summary>A request to copy<template v-if="hook.waits">; its caller waits for the reply</template></summary>
      <pre>{{ hook.request }}</pre>
      <BButton size="sm" variant="outline-primary" @click="copy(hook)">{{ copied === hook.path ? 'Copied' : 'Copy' }}</BButton>
    </details>
  </div>
  <details v-if="refused.data.value?.length" class="refused" open>
    <summary>{{ refused.data.value.length === 50 ? '50 or more' : refused.data.value.length }} refused within a week</summary>
    <ul>
      <li v-for="(one, index) in refused.data.value.slice(0, 8)" :key="index">
        <strong>{{ one.status }}</strong> {{ one.reason }} <span class="quiet">/hooks/{{ one.path }}, {{ moment(one.at) }}, from {{ one.source || 'nowhere' }}{{ one.agent && ` (${one.agent})` }}</span>
      </li>
    </ul>
  </details>
</template>

<style scoped>
.hook p { margin-bottom: 0.2rem; overflow-wrap: anywhere; }
.hook details { margin-bottom: 0.8rem; }
pre { padding: 0.6rem; background: var(--bs-tertiary-bg); margin: 0.3rem 0; }
ul { padding-left: 1.1rem; }
li { overflow-wrap: anywhere; }
</style>
