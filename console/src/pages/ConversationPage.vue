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
import SaidLines from '../components/SaidLines.vue'
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
async function judge(line: Message, good: boolean | null): Promise<void> {
  problem.value = null
  try {
    await data(api.POST('/api/v1/conversations/verdicts', { body: { key: props.name, seq: line.seq, good } }))
  } catch (error) {
    problem.value = error as Error
  }
  await list.query.refetch()
}
async function settle(line: Message, arrived: boolean): Promise<void> {
  problem.value = null
  try {
    await data(api.POST('/api/v1/conversations/settle', { body: { key: props.name, seq: line.seq, arrived } }))
    toast(arrived ? 'Noted. What waits behind it goes on.' : 'It is sent again.')
  } catch (error) {
    problem.value = error as Error
  }
  await list.query.refetch()
}
</script>

<template>
  <nav aria-label="Where this is" class="quiet"><RouterLink to="/conversations">Conversations</RouterLink> ›</nav>
  <div class="head">
    <h1>{{ about?.person || name }}</h1>
    <BButton size="sm" variant="outline-danger" @click="forgetting = true">Forget…</BButton>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <p v-if="about?.channel" class="quiet">
    On the {{ about.channel
    }}<template v-if="about.person"
      >, <span class="mono">{{ name }}</span></template
    >
  </p>
  <dl v-if="about && Object.keys(about.facts).length" class="facts" aria-label="What is kept of them">
    <template v-for="(value, fact) in about.facts" :key="fact">
      <dt>{{ fact }}</dt>
      <dd>{{ value }}</dd>
    </template>
  </dl>
  <p v-if="about?.question" role="status" class="waits">
    <template v-if="about.handed_over">A person has taken it over. <RouterLink to="/tray">Answer, or hand it back, in the tray</RouterLink></template>
    <template v-else>A question is open: what they say next is its answer.</template>
  </p>
  <p v-if="about?.summary" class="quiet">Earlier, in short: {{ about.summary }}</p>
  <ProblemNote v-if="list.query.error.value" :problem="list.query.error.value" :again="() => list.query.refetch()" />
  <LoadingLines v-else-if="list.query.isPending.value" />
  <SaidLines v-else :lines="list.items.value" :settle="settle" :judge="about?.channel ? judge : undefined" />
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
.waits {
  color: var(--relay-waiting);
}
.facts {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0 1rem;
}
.facts dd {
  margin: 0;
}
</style>
