<script setup lang="ts">
import TimeText from '../components/TimeText.vue'
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useAct } from '../lib/act'
import { moment } from '../lib/times'
import { every } from '../lib/lists'

type Schedule = Schemas['ScheduleOut']
const router = useRouter()
const schedules = useQuery({
  queryKey: ['schedules'],
  queryFn: () => every((query) => data(api.GET('/api/v1/schedules', { params: { query: { ...query, occurrences: 10 } } }))),
  refetchInterval: 10_000,
})
const { act, problem } = useAct('schedules')
const said = ref('')

const pause = (one: Schedule) =>
  act(one.trigger, async () => {
    said.value = ''
    await data(
      api.POST('/api/v1/schedules/{workflow}/{trigger}/pause', {
        params: { path: { workflow: one.workflow, trigger: one.trigger } },
        body: { paused: !one.paused },
      }),
    )
  })
const fire = (one: Schedule) =>
  act(one.trigger, async () => {
    said.value = ''
    const made = await data(
      api.POST('/api/v1/schedules/{workflow}/{trigger}/fire', { params: { path: { workflow: one.workflow, trigger: one.trigger } } }),
    )
    if (made.run) await router.push(`/runs/${made.run}`)
    else said.value = made.note ?? ''
  })
</script>

<template>
  <h1>Schedules</h1>
  <ProblemNote v-if="problem" :problem="problem" />
  <p v-if="said" role="status">{{ said }}</p>
  <ProblemNote v-if="schedules.error.value" :problem="schedules.error.value" />
  <LoadingLines v-else-if="schedules.isPending.value" />
  <p v-else-if="!schedules.data.value?.length">
    Nothing comes by itself. Give a <RouterLink to="/workflows">workflow</RouterLink> a trigger such as
    <code>schedule: {cron: "0 6 * * *", zone: Europe/Zurich}</code> and switch it on.
  </p>
  <section v-for="one in schedules.data.value" v-else :key="`${one.workflow} ${one.trigger}`">
    <div class="line">
      <div>
        <h2>
          <RouterLink :to="`/workflows/${one.workflow}`">{{ one.workflow }}</RouterLink> <span class="quiet">{{ one.trigger }}</span>
        </h2>
        <p class="rule">
          {{ one.words }} <span v-if="one.rule !== one.words" class="mono quiet">{{ one.rule }}</span>
        </p>
      </div>
      <div class="side">
        <span v-if="one.paused" class="paused">◷ paused</span>
        <span v-else-if="one.next_at">next <TimeText :at="one.next_at" /></span>
        <BButton size="sm" variant="outline-primary" @click="pause(one)">{{ one.paused ? 'Go on' : 'Pause' }}</BButton>
        <BButton size="sm" variant="outline-primary" @click="fire(one)">{{ one.kind === 'poll' ? 'Look now' : 'Fire now' }}</BButton>
      </div>
    </div>
    <p v-if="one.fault" class="fault" role="alert">The last look failed: {{ one.fault }}</p>
    <details v-if="one.occurrences.length > 1">
      <summary>The next {{ one.occurrences.length }}</summary>
      <ol>
        <li v-for="at in one.occurrences" :key="at" :title="at">{{ moment(at) }}</li>
      </ol>
    </details>
  </section>
</template>

<style scoped>
h1 {
  margin-bottom: 1rem;
}
section {
  border-bottom: 1px solid var(--relay-line);
  padding: 0.6rem 0;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 2rem;
  justify-content: space-between;
}
.line h2,
.rule {
  margin: 0;
}
.side {
  display: flex;
  flex-wrap: wrap;
  gap: 0.75rem;
  align-items: center;
}
.paused {
  color: var(--relay-waiting);
}
.fault {
  border-left: 3px solid var(--relay-failed);
  padding-left: 0.75rem;
  margin: 0.5rem 0;
}
ol {
  columns: 12rem;
  margin: 0.3rem 0 0;
}
</style>
