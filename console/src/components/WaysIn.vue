<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useAct } from '../lib/act'
import { shown } from '../lib/format'
import { moment } from '../lib/times'
import { every, useList } from '../lib/lists'
import MoreButton from './MoreButton.vue'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ workflow: string; hooks: Schemas['HookOut'][]; version: number }>()
const path = { params: { path: { name: props.workflow } } }
const { act, busy, problem } = useAct('triggers')
const client = useQueryClient()
const triggers = useQuery({
  queryKey: ['triggers', props.workflow, () => props.version],
  refetchInterval: (query) => (query.state.data?.some((t) => t.awaited) ? 1500 : false),
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows/{name}/triggers', { params: { ...path.params, query } }))),
})
const samples = useQuery({
  queryKey: ['samples', props.workflow],
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows/{name}/samples', { params: { ...path.params, query } }))),
})
const refused = useList(
  ['refusals', props.workflow],
  (query) => data(api.GET('/api/v1/workflows/{name}/refusals', { params: { ...path.params, query } })),
  { refetchInterval: 10_000, limit: 8 },
)
const events = computed(() => (samples.data.value ?? []).filter((s) => !s.step))
const hookOf = (trigger: string) => props.hooks.find((h) => h.trigger === trigger)
const came = ref('')

watch(triggers.data, async (now, before) => {
  const over = before?.find((t) => t.awaited && !now?.find((n) => n.trigger === t.trigger)?.awaited)
  if (!over?.awaited) return
  await client.invalidateQueries({ queryKey: ['samples', props.workflow] })
  came.value = over.awaited.sample
})

const one = (trigger: string) => ({ params: { path: { name: props.workflow, trigger } } })
const keepNext = (trigger: string) =>
  act(trigger, () => data(api.POST('/api/v1/workflows/{name}/triggers/{trigger}/next', { ...one(trigger), body: {} as never })))
const withdraw = (trigger: string) => act(trigger, () => data(api.DELETE('/api/v1/workflows/{name}/triggers/{trigger}/next', one(trigger))))
const { act: onSamples } = useAct('samples')
const remove = (id: string) =>
  onSamples(id, () => data(api.DELETE('/api/v1/workflows/{name}/samples/{sample_id}', { params: { path: { name: props.workflow, sample_id: id } } })))

const copied = ref('')
async function copy(text: string): Promise<void> {
  await navigator.clipboard.writeText(text)
  copied.value = text
}
const said = (text: string, word: string) => (copied.value === text ? 'Copied' : word)
</script>

<template>
  <p v-if="triggers.data.value && !triggers.data.value.length" class="quiet">
    The newest version has no triggers: only a person or a client starts it.
  </p>
  <div v-for="trigger in triggers.data.value" :key="trigger.trigger" class="way">
    <p>
      <strong>{{ trigger.trigger }}</strong> <span class="quiet">{{ trigger.sentence }}</span>
    </p>
    <p v-if="trigger.page">
      <template v-if="trigger.draft_page">
        <a :href="trigger.page" target="_blank">{{ trigger.page }}</a> <span class="quiet">the page, while the workflow is on</span>
      </template>
      <template v-else>
        <span class="mono">{{ trigger.page }}</span> <span class="quiet">where the service sends to, while the workflow is on</span>
      </template>
      <BButton size="sm" variant="link" @click="copy(trigger.page)">{{ said(trigger.page, 'Copy the address') }}</BButton>
    </p>
    <p v-if="trigger.draft_page">
      <a :href="trigger.draft_page" target="_blank" rel="noreferrer">Try the page of version {{ version }}</a>
      <span class="quiet"> on or not; what is said there stands apart from all others</span>
    </p>
    <template v-if="hookOf(trigger.trigger)">
      <p v-if="!hookOf(trigger.trigger)!.outside" class="quiet">
        Only this machine reaches it: set <code>OAK_RELAY_PUBLIC_URL</code> and <code>OAK_RELAY_HOST</code> for senders elsewhere.
      </p>
      <details>
        <summary>A request to copy<template v-if="hookOf(trigger.trigger)!.waits">; its caller waits for the reply</template></summary>
        <p class="mono">{{ hookOf(trigger.trigger)!.methods.join(', ') }} {{ hookOf(trigger.trigger)!.url }}</p>
        <pre>{{ hookOf(trigger.trigger)!.request }}</pre>
        <BButton size="sm" variant="outline-primary" @click="copy(hookOf(trigger.trigger)!.request)">{{
          said(hookOf(trigger.trigger)!.request, 'Copy')
        }}</BButton>
      </details>
    </template>
    <details>
      <summary>Send events to the newest version</summary>
      <p class="quiet">
        What is sent here runs version {{ version }}, on or not, as often as it comes, the same event too. Whoever has the address can do so.
      </p>
      <pre>{{ trigger.request }}</pre>
      <BButton size="sm" variant="outline-primary" @click="copy(trigger.request)">{{ said(trigger.request, 'Copy the request') }}</BButton>
      <BButton size="sm" variant="link" @click="copy(trigger.draft_url)">{{ said(trigger.draft_url, 'Copy the address') }}</BButton>
      <BButton
        v-if="!hookOf(trigger.trigger) && !trigger.awaited"
        size="sm"
        variant="link"
        :disabled="busy === trigger.trigger"
        @click="keepNext(trigger.trigger)"
        >Keep the next event sent here</BButton
      >
    </details>
    <p v-if="trigger.awaited" role="status" class="waits">
      Waiting for the next event, until {{ moment(trigger.awaited.until) }}: it is kept as <em>{{ trigger.awaited.sample }}</em>{{
        hookOf(trigger.trigger) ? ', at the webhook’s address too' : ''
      }}.
      <BButton size="sm" variant="link" :disabled="busy === trigger.trigger" @click="withdraw(trigger.trigger)">Wait no longer</BButton>
    </p>
    <BButton
      v-else-if="hookOf(trigger.trigger)"
      size="sm"
      variant="outline-primary"
      :disabled="busy === trigger.trigger"
      @click="keepNext(trigger.trigger)"
      >Keep the next event</BButton
    >
  </div>
  <ProblemNote v-if="problem ?? triggers.error.value" :problem="(problem ?? triggers.error.value) as Error" />
  <template v-if="events.length">
    <h3>Kept events</h3>
    <details v-for="sample in events" :key="sample.id" :open="sample.name === came">
      <summary>
        <strong>{{ sample.name }}</strong> <span class="quiet">{{ sample.event?.type }}, {{ moment(sample.created_at) }}</span>
      </summary>
      <pre>{{ shown(sample.event ? sample.event.data : sample.value) }}</pre>
      <details v-if="sample.event && Object.keys(sample.event.headers).length" class="ms-3">
        <summary>Its headers</summary>
        <pre>{{ shown(sample.event.headers) }}</pre>
      </details>
      <BButton size="sm" variant="link" @click="remove(sample.id)">Remove</BButton>
    </details>
  </template>
  <details v-if="refused.items.value.length" class="refused" open>
    <summary>Refused within a week</summary>
    <ul>
      <li v-for="(refusal, index) in refused.items.value" :key="index">
        <strong>{{ refusal.status }}</strong> {{ refusal.reason }}
        <span class="quiet"
          >{{ refusal.path }}, {{ moment(refusal.at) }}, from {{ refusal.source || 'nowhere' }}{{ refusal.agent && ` (${refusal.agent})` }}</span
        >
      </li>
    </ul>
    <MoreButton :list="refused" word="Show older" />
  </details>
</template>

<style scoped>
.way {
  margin-bottom: 1rem;
  overflow-wrap: anywhere;
}
.way p {
  margin-bottom: 0.2rem;
}
.way details {
  margin-bottom: 0.4rem;
}
.waits {
  color: var(--relay-waiting);
}
h3 {
  font-size: 1rem;
}
pre {
  padding: 0.6rem;
  background: var(--bs-tertiary-bg);
  margin: 0.3rem 0;
  max-height: 20rem;
}
ul {
  padding-left: 1.1rem;
}
li {
  overflow-wrap: anywhere;
}
.refused {
  margin-top: 1rem;
}
</style>
