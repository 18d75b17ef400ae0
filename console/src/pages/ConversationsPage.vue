<script setup lang="ts">
import TimeText from '../components/TimeText.vue'
import { RouterLink, useRouter } from 'vue-router'
import { api, data } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useList } from '../lib/lists'
import { useLive, useSoon } from '../lib/live'

const router = useRouter()
const list = useList(['conversations'], (query) => data(api.GET('/api/v1/conversations', { params: { query } })))
const soon = useSoon(() => (list.query.data.value?.pages.length ?? 0) < 2 && list.query.refetch({ cancelRefetch: false }), 2000)
useLive({ run: soon, many: soon })
const to = (key: string) => `/conversations/${encodeURIComponent(key)}`
const facts = (kept: Record<string, string>) =>
  Object.entries(kept)
    .map(([name, value]) => `${name}: ${value}`)
    .join(', ')
</script>

<template>
  <div class="head">
    <h1>Conversations</h1>
    <p class="quiet">Who talked with an agent, and what it kept of them.</p>
  </div>
  <ProblemNote v-if="list.query.error.value" :problem="list.query.error.value" :again="() => list.query.refetch()" />
  <LoadingLines v-else-if="list.query.isPending.value" />
  <p v-else-if="!list.items.value.length">
    None yet. An agent with <span class="mono">memory: {conversation: …}</span> remembers what was said under that key, and goes on from there the
    next time.
  </p>
  <table v-else class="table">
    <thead>
      <tr>
        <th>With</th>
        <th class="num">Messages</th>
        <th class="wide-only">Kept of them</th>
        <th>Last</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(one, at) in list.items.value" :key="at" class="rowlink" @click="router.push(to(one.key))">
        <td class="cut">
          <RouterLink :to="to(one.key)">{{ one.key }}</RouterLink>
          <span v-if="one.handed_over" class="waits"> a person has it</span>
        </td>
        <td class="num">{{ one.messages }}</td>
        <td class="cut quiet wide-only" :title="facts(one.facts)">{{ facts(one.facts) || '–' }}</td>
        <td><TimeText :at="one.updated_at" /></td>
      </tr>
    </tbody>
  </table>
  <MoreButton :list="list" />
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.25rem 1rem;
  margin-bottom: 1rem;
}
.head p {
  margin: 0;
}
.waits {
  color: var(--relay-waiting);
}
.cut {
  max-width: 18rem;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
@media (max-width: 700px) {
  .cut {
    max-width: 9rem;
  }
}
</style>
