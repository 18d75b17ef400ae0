<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import AskSure from '../components/AskSure.vue'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { shown } from '../lib/format'
import { moment } from '../lib/times'
import { useList } from '../lib/lists'
import { useLive, useSoon } from '../lib/live'
import { toast } from '../lib/toasts'

type Message = Schemas['MessageOut']
const props = defineProps<{ name: string }>()
const router = useRouter()
const path = { key: props.name }
const list = useList(['conversation', props.name], (query) => data(api.GET('/api/v1/conversations/{key}', { params: { path, query } })), {
  limit: 200,
})
const soon = useSoon(() => list.query.refetch({ cancelRefetch: false }), 2000)
useLive({ run: soon, many: soon })
/** Facts stand with the list; the key is among its latest, or is looked for no further. */
const known = useQuery({
  queryKey: ['conversations', 'facts', props.name],
  queryFn: () => data(api.GET('/api/v1/conversations', { params: { query: { limit: 1000 } } })),
})
const about = computed(() => known.data.value?.items.find((one) => one.key === props.name))
const forgetting = ref(false)
const problem = ref<Error | null>(null)
async function forget(): Promise<void> {
  try {
    await data(api.DELETE('/api/v1/conversations/{key}', { params: { path } }))
    toast('Forgotten.')
    await router.push('/conversations')
  } catch (error) {
    problem.value = error as Error
  }
}
/** The words of a message; of a call of a tool what it was called with. */
function words(message: Message): string {
  const { content, text } = message.message as { content?: unknown; text?: unknown }
  const said = content ?? text
  if (typeof said === 'string') return said
  if (!Array.isArray(said)) return said === undefined || said === null ? '' : shown(said)
  return said.map((part: { text?: string; type?: string }) => part.text ?? `(${part.type ?? 'something'})`).join('\n')
}
/** What a message calls, each as it reads in a line. */
const calls = (message: Message) =>
  ((message.message as { tool_calls?: { function?: { name?: string; arguments?: string } }[] }).tool_calls ?? []).map(
    (one) => `${one.function?.name ?? 'a tool'} ${one.function?.arguments ?? ''}`,
  )
const WHO: Record<string, string> = { user: 'they', assistant: 'the agent', tool: 'a tool', system: 'brief' }
</script>

<template>
  <nav aria-label="Where this is" class="quiet"><RouterLink to="/conversations">Conversations</RouterLink> ›</nav>
  <div class="head">
    <h1>{{ name }}</h1>
    <BButton size="sm" variant="outline-danger" @click="forgetting = true">Forget…</BButton>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <dl v-if="about && Object.keys(about.facts).length" class="facts" aria-label="What is kept of them">
    <template v-for="(value, fact) in about.facts" :key="fact">
      <dt>{{ fact }}</dt>
      <dd>{{ value }}</dd>
    </template>
  </dl>
  <p v-if="about?.summary" class="quiet">Earlier, in short: {{ about.summary }}</p>
  <ProblemNote v-if="list.query.error.value" :problem="list.query.error.value" :again="() => list.query.refetch()" />
  <LoadingLines v-else-if="list.query.isPending.value" />
  <ol v-else class="said" aria-label="What was said">
    <li v-for="one in list.items.value" :key="one.seq" :class="one.role">
      <p class="quiet who">
        {{ WHO[one.role] ?? one.role }}, {{ moment(one.at) }}
        <RouterLink v-if="one.run_id && one.role === 'assistant'" :to="`/runs/${one.run_id}`">its run</RouterLink>
      </p>
      <details v-if="one.role === 'tool'">
        <summary>What it gave</summary>
        <pre tabindex="0">{{ words(one) }}</pre>
      </details>
      <p v-else-if="words(one)" class="words">{{ words(one) }}</p>
      <p v-for="(call, at) in calls(one)" :key="at" class="mono call">{{ call }}</p>
    </li>
  </ol>
  <MoreButton :list="list" word="Show later ones" />
  <AskSure v-model="forgetting" title="Forget this conversation?" ok="Forget it" @sure="forget">
    All that was said with {{ name }} is removed, and what was kept of them. This cannot be undone.
  </AskSure>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 1rem;
  align-items: center;
  margin-bottom: 0.75rem;
}
h1 {
  overflow-wrap: anywhere;
}
.facts {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0 1rem;
}
.facts dd {
  margin: 0;
}
.said {
  list-style: none;
  padding: 0;
  max-width: 50rem;
}
.said li {
  margin-bottom: 0.8rem;
  padding-left: 0.8rem;
  border-left: 3px solid var(--relay-line);
}
.said .user {
  border-left-color: var(--relay-running);
}
.said .assistant {
  border-left-color: var(--relay-succeeded);
}
.who {
  margin: 0;
  font-size: 0.85rem;
}
.words {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.call {
  margin: 0;
  overflow-wrap: anywhere;
}
pre {
  max-height: 16rem;
  overflow: auto;
}
</style>
