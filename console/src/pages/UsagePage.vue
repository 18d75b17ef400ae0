<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useAct } from '../lib/act'
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
const budgets = useQuery({
  queryKey: ['budgets'],
  queryFn: () => every((query) => data(api.GET('/api/v1/budgets', { params: { query } }))),
  refetchInterval: 10_000,
})
const workflows = useQuery({
  queryKey: ['workflows', 'all'],
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows', { params: { query } }))),
})

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

const adding = ref(false)
const form = reactive({ name: '', money: 5, period: 'day' as 'day' | 'month', workflow: '' })
const { act, problem } = useAct('budgets')
const store = () =>
  act('add', async () => {
    await data(
      api.PUT('/api/v1/budgets/{name}', {
        params: { path: { name: form.name } },
        body: { money: Number(form.money), period: form.period, workflow: form.workflow, warn_at: 0.8 },
      }),
    )
    adding.value = false
  })
const remove = (name: string) => act(name, () => data(api.DELETE('/api/v1/budgets/{name}', { params: { path: { name } } })))
const credits = useQuery({
  queryKey: ['credits'],
  queryFn: () => every((query) => data(api.GET('/api/v1/credits', { params: { query } }))),
  refetchInterval: 10_000,
})
const credentials = useQuery({
  queryKey: ['credentials'],
  queryFn: () => every((query) => data(api.GET('/api/v1/credentials', { params: { query } }))),
})
const noting = ref(false)
const paid = reactive({ credential: '', money: 20, adds: true })
const { act: onCredit, problem: creditProblem } = useAct('credits')
const note = () =>
  onCredit('note', async () => {
    await data(
      api.POST('/api/v1/credits/{credential}', {
        params: { path: { credential: paid.credential } },
        body: { money: Number(paid.money), adds: paid.adds },
      }),
    )
    noting.value = false
  })
const forget = (credential: string) =>
  onCredit(credential, () => data(api.DELETE('/api/v1/credits/{credential}', { params: { path: { credential } } })))
const ends: Record<string, string> = { within: 'enough', warned: 'ends soon', spent: 'used up, by what is counted here' }
const words: Record<string, string> = { within: 'within', warned: 'nearly spent', spent: 'spent: no model is asked' }
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
        <td class="mono">{{ one[group] || 'none' }}</td>
        <td class="num">{{ one.calls }}</td>
        <td class="num wide-only">{{ one.input.toLocaleString() }}</td>
        <td class="num wide-only">{{ one.output.toLocaleString() }}</td>
        <td class="num">{{ money(one.money, one.unpriced) }}</td>
        <td class="wide-only"><span class="part" :style="{ width: `${share(one) * 100}%` }" /></td>
      </tr>
    </tbody>
  </table>
  <div class="by">
    <h2>Budgets</h2>
    <BButton v-if="!adding" size="sm" variant="outline-primary" @click="adding = true">Add budget</BButton>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <form v-if="adding" class="add" @submit.prevent="store">
    <label>Name <BFormInput v-model="form.name" required placeholder="office" /></label>
    <label>Money <BFormInput v-model="form.money" type="number" step="any" min="0" required /></label>
    <label>Per <BFormSelect v-model="form.period" :options="['day', 'month']" /></label>
    <label
      >Of
      <BFormSelect
        v-model="form.workflow"
        :options="[{ value: '', text: 'all workflows' }, ...(workflows.data.value ?? []).map((w) => ({ value: w.name, text: w.name }))]"
    /></label>
    <div><BButton type="submit" variant="primary">Set</BButton> <BButton variant="link" @click="adding = false">Not now</BButton></div>
  </form>
  <p v-if="!budgets.data.value?.length && !adding" class="quiet">
    None. When a budget is nearly spent the event <span class="mono">oak.budget</span> is published; when it is spent, no model is asked until its
    next period.
  </p>
  <table v-else-if="budgets.data.value?.length" class="table">
    <thead>
      <tr>
        <th>Budget</th>
        <th>Of</th>
        <th class="num">Spent</th>
        <th class="num">Of money</th>
        <th>State</th>
        <th />
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in budgets.data.value" :key="one.name">
        <td class="mono">{{ one.name }}</td>
        <td>{{ one.workflow || 'all workflows' }}, each {{ one.period }}</td>
        <td class="num">{{ money(one.spent) }}</td>
        <td class="num">{{ money(one.money) }}</td>
        <td :class="one.state">{{ words[one.state] }}</td>
        <td class="num"><BButton size="sm" variant="link" class="text-danger" @click="remove(one.name)">Remove</BButton></td>
      </tr>
    </tbody>
  </table>
  <div class="by">
    <h2>Credit</h2>
    <BButton v-if="!noting" size="sm" variant="outline-primary" @click="noting = true">Note a payment</BButton>
  </div>
  <ProblemNote v-if="creditProblem" :problem="creditProblem" />
  <form v-if="noting" class="add" @submit.prevent="note">
    <label
      >Behind the credential <BFormSelect v-model="paid.credential" required :options="(credentials.data.value ?? []).map((c) => c.name)"
    /></label>
    <label>Money <BFormInput v-model="paid.money" type="number" step="any" min="0" required /></label>
    <label
      >It is
      <BFormSelect
        v-model="paid.adds"
        :options="[
          { value: true, text: 'paid in, beside what is left' },
          { value: false, text: 'all there is in the account' },
        ]"
    /></label>
    <div>
      <BButton type="submit" variant="primary" :disabled="!paid.credential">Note</BButton>
      <BButton variant="link" @click="noting = false">Not now</BButton>
    </div>
  </form>
  <p v-if="!credits.data.value?.length && !noting" class="quiet">
    Nothing noted. Note what you paid in for models, and <span class="mono">oak.credit</span> is published before it ends. Runs that rest because an
    account is empty go on when a payment is noted.
  </p>
  <table v-else-if="credits.data.value?.length" class="table">
    <thead>
      <tr>
        <th>Credential</th>
        <th class="num">There was</th>
        <th class="num">Left</th>
        <th class="num wide-only">A day</th>
        <th class="wide-only">Lasts until</th>
        <th>State</th>
        <th />
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in credits.data.value" :key="one.credential">
        <td class="mono">{{ one.credential }}</td>
        <td class="num">{{ money(one.money) }}</td>
        <td class="num">{{ one.unpriced ? 'less than ' : '' }}{{ money(Math.max(one.left, 0)) }}</td>
        <td class="num wide-only">{{ money(one.a_day) }}</td>
        <td class="wide-only" :title="one.lasts ?? ''">{{ one.lasts ? new Date(one.lasts).toLocaleDateString() : '–' }}</td>
        <td :class="one.state">{{ ends[one.state] }}</td>
        <td class="num"><BButton size="sm" variant="link" class="text-danger" @click="forget(one.credential)">Forget</BButton></td>
      </tr>
    </tbody>
  </table>
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
.add {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(11rem, 1fr));
  gap: 0.75rem;
  align-items: end;
  margin-bottom: 1rem;
}
.warned {
  color: var(--relay-waiting);
}
.spent {
  color: var(--relay-failed);
}
th::first-letter {
  text-transform: uppercase;
}
</style>
