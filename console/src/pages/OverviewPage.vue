<script setup lang="ts">
import TimeText from '../components/TimeText.vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { BFormSelect } from 'bootstrap-vue-next'
import { computed, defineAsyncComponent } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data } from '../api/client'
import BrokenList from '../components/BrokenList.vue'
import FirstSteps from '../components/FirstSteps.vue'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { money } from '../lib/format'
import { every } from '../lib/lists'
import { useLive, useSoon } from '../lib/live'

const RunsChart = defineAsyncComponent(() => import('../components/RunsChart.vue'))
const route = useRoute()
const router = useRouter()
const hours = computed({
  get: () => Number(route.query.hours) || 24,
  set: (n) => void router.replace({ query: n === 24 ? {} : { hours: n } }),
})
const overview = useQuery({
  queryKey: ['overview', hours],
  queryFn: () => data(api.GET('/api/v1/overview', { params: { query: { hours: hours.value } } })),
  placeholderData: keepPreviousData,
  refetchInterval: 30_000,
})
const soon = useSoon(() => overview.refetch({ cancelRefetch: false }), 5000)
useLive({ run: soon, many: soon })
const workflows = useQuery({
  queryKey: ['workflows', 'any'],
  queryFn: () => data(api.GET('/api/v1/workflows', { params: { query: { limit: 1 } } })),
})
const budgets = useQuery({
  queryKey: ['budgets'],
  queryFn: () => every((query) => data(api.GET('/api/v1/budgets', { params: { query } }))),
})
const monday = computed(() => new Date(Date.now() - ((new Date().getUTCDay() + 6) % 7) * 86_400_000).toISOString().slice(0, 10))
const week = useQuery({
  queryKey: ['usage', 'week', monday],
  queryFn: () => data(api.GET('/api/v1/usage', { params: { query: { since: monday.value, by: ['workflow'], limit: 1000 } } })),
})
const schedules = useQuery({
  queryKey: ['schedules'],
  queryFn: () => every((query) => data(api.GET('/api/v1/schedules', { params: { query: { ...query, occurrences: 10 } } }))),
})
const due = computed(() =>
  (schedules.data.value ?? [])
    .filter((one) => one.next_at && !one.paused)
    .sort((a, b) => String(a.next_at).localeCompare(String(b.next_at)))
    .slice(0, 6),
)
const faults = computed(() => (schedules.data.value ?? []).filter((one) => one.fault))
const sum = computed(() => {
  const all = overview.data.value?.hours ?? []
  const of = (kind: 'succeeded' | 'failed' | 'cancelled' | 'open') => all.reduce((n, hour) => n + hour[kind], 0)
  return { succeeded: of('succeeded'), failed: of('failed'), cancelled: of('cancelled'), open: of('open') }
})
const spent = computed(() =>
  (week.data.value?.items ?? []).reduce((n, one) => ({ money: n.money + one.money, unpriced: n.unpriced + one.unpriced }), { money: 0, unpriced: 0 }),
)
const dearest = computed(() =>
  [...(week.data.value?.items ?? [])]
    .filter((one) => one.money)
    .sort((a, b) => b.money - a.money)
    .slice(0, 3),
)
const nothing = computed(() => workflows.data.value && !workflows.data.value.items.length)
const since = computed(() => (hours.value <= 24 ? '24' : hours.value <= 168 ? '168' : ''))
const stands: Record<string, string> = { within: '', warned: 'nearly spent', spent: 'spent: no model is asked' }
</script>

<template>
  <div class="head">
    <h1>Overview</h1>
    <BFormSelect
      v-if="!nothing"
      v-model="hours"
      size="sm"
      class="narrow"
      aria-label="How far back"
      :options="[
        { value: 24, text: 'a day' },
        { value: 168, text: 'a week' },
        { value: 720, text: '30 days' },
      ]" />
  </div>
  <FirstSteps v-if="nothing" />
  <template v-else>
    <BrokenList />
    <ProblemNote v-if="overview.error.value" :problem="overview.error.value" :again="() => overview.refetch()" />
    <LoadingLines v-else-if="!overview.data.value" />
    <template v-else>
      <p class="sums">
        <span class="ok">✓ {{ sum.succeeded }} succeeded</span>
        <RouterLink v-if="sum.failed" :to="`/runs?state=failed${since ? `&since=${since}` : ''}`" class="bad">✗ {{ sum.failed }} failed</RouterLink>
        <span v-else class="quiet">none failed</span>
        <span v-if="sum.cancelled" class="quiet">{{ sum.cancelled }} cancelled</span>
        <RouterLink v-if="sum.open" to="/runs?state=open" class="runs">{{ sum.open }} not ended</RouterLink>
        <RouterLink v-if="overview.data.value.waiting" to="/tray" class="waits"
          >◷ {{ overview.data.value.waiting }} {{ overview.data.value.waiting === 1 ? 'question waits' : 'questions wait' }} in the tray</RouterLink
        >
        <span v-else class="quiet">nothing waits for a person</span>
      </p>
      <RunsChart :hours="overview.data.value.hours" :step="overview.data.value.step" />
      <section aria-labelledby="causes">
        <h2 id="causes">What fails</h2>
        <p v-if="!overview.data.value.causes.length" class="quiet">Nothing that was not mended.</p>
        <table v-else class="table">
          <thead>
            <tr>
              <th class="num">Runs</th>
              <th>Workflow and step</th>
              <th>Why, the last time</th>
              <th class="wide-only">Last</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in overview.data.value.causes" :key="`${one.workflow} ${one.kind} ${one.step}`">
              <td class="num">
                <RouterLink :to="`/runs?workflow=${one.workflow}&state=unmended&error_kind=${one.kind}`">{{ one.count }}</RouterLink>
              </td>
              <td class="cut">
                {{ one.workflow }} <span class="quiet mono">{{ one.step }}</span>
              </td>
              <td class="cut">
                <RouterLink :to="`/runs/${one.run}`"
                  ><strong>{{ one.kind }}</strong> {{ one.message }}</RouterLink
                >
              </td>
              <td class="wide-only"><TimeText :at="one.at" /></td>
            </tr>
          </tbody>
        </table>
      </section>
    </template>
    <div class="beside">
      <section aria-labelledby="money">
        <h2 id="money">Money this week</h2>
        <p>
          {{ money(spent.money, spent.unpriced)
          }}<template v-if="dearest.length"
            >, most of it by {{ dearest.map((one) => `${one.workflow || 'tries'} (${money(one.money)})`).join(', ') }}</template
          >. <RouterLink to="/usage">Usage</RouterLink>
        </p>
        <p v-for="one in budgets.data.value" :key="one.name" class="budget">
          Budget {{ one.name }}: {{ money(one.spent) }} of {{ money(one.money) }} a {{ one.period }}
          <strong v-if="one.state !== 'within'" :class="one.state">{{ stands[one.state] }}</strong>
        </p>
        <p v-if="budgets.data.value && !budgets.data.value.length" class="quiet">No budget is set: <RouterLink to="/usage">set one</RouterLink>.</p>
      </section>
      <section aria-labelledby="due">
        <h2 id="due">Next by itself</h2>
        <p v-for="one in faults" :key="one.trigger" class="spent">
          {{ one.workflow }}: the last look failed. <RouterLink to="/schedules">{{ one.fault }}</RouterLink>
        </p>
        <p v-if="!due.length" class="quiet">Nothing is due. <RouterLink to="/schedules">Schedules</RouterLink></p>
        <p v-for="one in due" :key="`${one.workflow} ${one.trigger}`" class="budget">
          <span class="when"><TimeText :at="one.next_at" /></span> <RouterLink :to="`/workflows/${one.workflow}`">{{ one.workflow }}</RouterLink>
          <span class="quiet ms-1">{{ one.kind === 'poll' ? 'looks' : one.trigger }}</span>
        </p>
      </section>
    </div>
  </template>
</template>

<style scoped>
.head {
  display: flex;
  gap: 1rem;
  align-items: center;
  margin-bottom: 0.75rem;
}
.narrow {
  width: auto;
  margin-left: auto;
}
.sums {
  display: flex;
  flex-wrap: wrap;
  gap: 0.25rem 1.5rem;
  font-weight: 550;
}
.sums .quiet {
  font-weight: 400;
}
.ok {
  color: var(--relay-succeeded);
}
.bad,
.spent {
  color: var(--relay-failed);
}
.runs {
  color: var(--relay-running);
}
.waits,
.warned {
  color: var(--relay-waiting);
}
section {
  margin-top: 1.5rem;
}
h2 {
  margin-bottom: 0.4rem;
}
.cut {
  overflow-wrap: anywhere;
}
.beside {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(22rem, 100%), 1fr));
  gap: 0 3rem;
}
.budget {
  margin-bottom: 0.2rem;
}
.when {
  display: inline-block;
  min-width: 8rem;
}
</style>
