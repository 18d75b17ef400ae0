<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { reactive, ref } from 'vue'
import { api, data } from '../api/client'
import { useAct } from '../lib/act'
import { money } from '../lib/format'
import { every } from '../lib/lists'
import ProblemNote from './ProblemNote.vue'

const budgets = useQuery({
  queryKey: ['budgets'],
  queryFn: () => every((query) => data(api.GET('/api/v1/budgets', { params: { query } }))),
  refetchInterval: 10_000,
})
const workflows = useQuery({
  queryKey: ['workflows', 'all'],
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows', { params: { query } }))),
})
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
const words: Record<string, string> = { within: 'within', warned: 'nearly spent', spent: 'spent: no model is asked' }
</script>

<template>
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
        <th><span class="visually-hidden">What may be done</span></th>
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
</template>

<style scoped>
.by {
  display: flex;
  gap: 0.75rem;
  align-items: center;
  margin: 1rem 0 0.5rem;
}
.by h2 {
  margin: 0;
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
</style>
