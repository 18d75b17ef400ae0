<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { reactive, ref } from 'vue'
import { api, data } from '../api/client'
import { useAct } from '../lib/act'
import { money } from '../lib/format'
import { every } from '../lib/lists'
import ProblemNote from './ProblemNote.vue'

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
</script>

<template>
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
        <th><span class="visually-hidden">What may be done</span></th>
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
