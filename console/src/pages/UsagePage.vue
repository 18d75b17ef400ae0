<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BFormSelect } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import BudgetList from '../components/BudgetList.vue'
import CreditList from '../components/CreditList.vue'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { money } from '../lib/format'
import { every } from '../lib/lists'

type Usage = Schemas['UsageOut']
const days = ref(30)
const group = ref<'workflow' | 'alias' | 'credential' | 'source'>('workflow')
const since = computed(() => new Date(Date.now() - (days.value - 1) * 86_400_000).toISOString().slice(0, 10))
const asked = (by: ('day' | typeof group.value)[]) =>
  every((query) => data(api.GET('/api/v1/usage', { params: { query: { ...query, by, since: since.value } } })))
const daily = useQuery({ queryKey: ['usage', 'day', since], queryFn: () => asked(['day']), refetchInterval: 10_000 })
const grouped = useQuery({ queryKey: ['usage', group, since], queryFn: () => asked([group.value]), refetchInterval: 10_000 })

const bars = computed(() => {
  const known = new Map((daily.data.value ?? []).map((one) => [one.day, one]))
  const all = Array.from({ length: days.value }, (_, n) => new Date(Date.parse(since.value) + n * 86_400_000).toISOString().slice(0, 10))
  return all.map((day) => ({ day, one: known.get(day) }))
})
const most = computed(() => Math.max(...bars.value.map((b) => b.one?.money ?? 0), 0))
const total = computed(() =>
  (daily.data.value ?? []).reduce(
    (sum, one) => ({
      calls: sum.calls + one.calls,
      tokens: sum.tokens + one.input + one.output,
      money: sum.money + one.money,
      unpriced: sum.unpriced + one.unpriced,
    }),
    { calls: 0, tokens: 0, money: 0, unpriced: 0 },
  ),
)
const share = (one: Usage) => (total.value.money ? one.money / total.value.money : 0)
const sorted = computed(() => [...(grouped.data.value ?? [])].sort((a, b) => b.money - a.money))
const csv = computed(() => `/api/v1/usage.csv?since=${since.value}&by=day&by=workflow&by=alias&by=credential&by=source`)
</script>

<template>
  <div class="head">
    <h1>Usage</h1>
    <p class="quiet">
      What models were asked, by days of UTC: {{ total.calls }} calls, {{ total.tokens.toLocaleString() }} tokens, money
      {{ money(total.money, total.unpriced) }}
    </p>
    <BFormSelect
      v-model="days"
      :options="[
        { value: 7, text: '7 days' },
        { value: 30, text: '30 days' },
        { value: 90, text: '90 days' },
      ]"
      class="narrow"
      aria-label="How many days" />
    <a :href="csv" class="btn btn-outline-primary">CSV</a>
  </div>
  <ProblemNote v-if="daily.error.value" :problem="daily.error.value" />
  <LoadingLines v-else-if="daily.isPending.value" />
  <figure v-else aria-label="Money by day">
    <figcaption class="quiet">Money by day, at most {{ money(most) }}</figcaption>
    <div class="bars">
      <div v-for="bar in bars" :key="bar.day" class="bar" :title="`${bar.day}: ${bar.one?.calls ?? 0} calls, money ${money(bar.one?.money ?? 0)}`">
        <span :style="{ height: `${most ? ((bar.one?.money ?? 0) / most) * 100 : 0}%` }" />
      </div>
    </div>
    <div class="axis quiet">
      <span>{{ bars[0]?.day }}</span><span>{{ bars.at(-1)?.day }}</span>
    </div>
  </figure>
  <div class="by">
    <h2>By</h2>
    <BFormSelect
      v-model="group"
      :options="['workflow', { value: 'alias', text: 'model' }, 'credential', { value: 'source', text: 'who began it' }]"
      class="narrow"
      aria-label="Group by" />
  </div>
  <p v-if="!sorted.length && !grouped.isPending.value">No model was asked in these days.</p>
  <table v-else class="table">
    <thead>
      <tr>
        <th>{{ group === 'alias' ? 'Model' : group === 'source' ? 'Begun by' : group }}</th>
        <th class="num">Calls</th>
        <th class="num wide-only">Read</th>
        <th class="num wide-only">Written</th>
        <th class="num">Money</th>
        <th class="wide-only share">Share</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in sorted" :key="String(one[group])">
        <td class="mono">
          <RouterLink v-if="group === 'workflow' && one.workflow && !one.workflow.startsWith('(')" :to="`/runs?workflow=${one.workflow}`">{{
            one.workflow
          }}</RouterLink>
          <template v-else>{{ one[group] || 'none' }}</template>
        </td>
        <td class="num">{{ one.calls }}</td>
        <td class="num wide-only">{{ one.input.toLocaleString() }}</td>
        <td class="num wide-only">{{ one.output.toLocaleString() }}</td>
        <td class="num">{{ money(one.money, one.unpriced) }}</td>
        <td class="wide-only"><span class="part" :style="{ width: `${share(one) * 100}%` }" /></td>
      </tr>
    </tbody>
  </table>
  <BudgetList />
  <CreditList />
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 1rem;
  align-items: center;
  margin-bottom: 1rem;
}
.head p {
  margin: 0;
  flex: 1;
  min-width: 16rem;
}
.narrow {
  width: auto;
}
figure {
  margin: 0 0 1.5rem;
}
.bars {
  display: flex;
  gap: 2px;
  height: 8rem;
  align-items: flex-end;
  border-bottom: 1px solid var(--relay-line);
}
.bar {
  flex: 1;
  height: 100%;
  display: flex;
  align-items: flex-end;
}
.bar span {
  width: 100%;
  background: var(--relay-succeeded, var(--bs-primary));
}
.axis {
  display: flex;
  justify-content: space-between;
  font-size: 0.85rem;
}
.by {
  display: flex;
  gap: 0.75rem;
  align-items: center;
  margin: 1rem 0 0.5rem;
}
.by h2 {
  margin: 0;
}
.share {
  width: 30%;
}
.part {
  display: block;
  height: 0.6rem;
  background: var(--relay-succeeded, var(--bs-primary));
}
th::first-letter {
  text-transform: uppercase;
}
</style>
