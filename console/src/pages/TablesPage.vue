<script setup lang="ts">
import TimeText from '../components/TimeText.vue'
import { useQueryClient } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { reactive, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import ImportRows from '../components/ImportRows.vue'
import LinkTable from '../components/LinkTable.vue'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useAct } from '../lib/act'
import { useList } from '../lib/lists'

type Column = Schemas['ColumnIn']
const router = useRouter()
const client = useQueryClient()
const list = useList(['tables'], (query) => data(api.GET('/api/v1/tables', { params: { query } })))
const making = ref<'' | 'columns' | 'file' | 'link'>('')
const form = reactive({ name: '', columns: [{ name: '', type: 'text' }] as Column[] })
const TYPES = ['text', 'number', 'boolean', 'any'] as const
const { act, busy, problem } = useAct('tables')
const make = () =>
  act('make', async () => {
    const columns = form.columns.filter((column) => column.name)
    await data(api.POST('/api/v1/tables', { body: { name: form.name, columns } }))
    await router.push(`/tables/${form.name}`)
  })
async function imported(name: string): Promise<void> {
  await client.invalidateQueries({ queryKey: ['tables'] })
  await router.push(`/tables/${name}`)
}
</script>

<template>
  <div class="head">
    <h1>Tables</h1>
    <p class="quiet">What workflows keep: rows that they find, add and change, and that start them.</p>
    <BButton v-if="!making" variant="outline-primary" @click="making = 'link'">Link a table</BButton>
    <BButton v-if="!making" variant="outline-primary" @click="making = 'file'">From a file</BButton>
    <BButton v-if="!making" variant="primary" @click="making = 'columns'">New table</BButton>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <ImportRows v-if="making === 'file'" @done="imported" @leave="making = ''" />
  <LinkTable v-if="making === 'link'" @done="imported" @leave="making = ''" />
  <form v-if="making === 'columns'" class="add" @submit.prevent="make">
    <label>Name <BFormInput v-model="form.name" required pattern="[a-z][a-z0-9_\-]{0,60}" placeholder="huts" /></label>
    <fieldset>
      <legend>Columns</legend>
      <div v-for="(column, at) in form.columns" :key="at" class="column">
        <BFormInput
          v-model="column.name"
          size="sm"
          pattern="[a-z][a-z0-9_]{0,60}"
          :required="at === 0"
          :aria-label="`Name of column ${at + 1}`"
          placeholder="name" />
        <BFormSelect v-model="column.type" :options="[...TYPES]" size="sm" :aria-label="`Type of column ${at + 1}`" />
        <BButton v-if="form.columns.length > 1" size="sm" variant="link" :aria-label="`Remove column ${at + 1}`" @click="form.columns.splice(at, 1)"
          >×</BButton
        >
      </div>
      <BButton size="sm" variant="link" @click="form.columns.push({ name: '', type: 'text' })">One more column</BButton>
    </fieldset>
    <div>
      <BButton type="submit" variant="primary" :disabled="busy === 'make'">Make it</BButton>
      <BButton variant="link" @click="making = ''">Not now</BButton>
    </div>
  </form>
  <ProblemNote v-if="list.query.error.value" :problem="list.query.error.value" :again="() => list.query.refetch()" />
  <LoadingLines v-else-if="list.query.isPending.value" />
  <p v-else-if="!list.items.value.length">
    None yet. Make one from a file, link one whose rows live elsewhere, or make one with columns of your own; steps such as
    <span class="mono">table.add</span> and <span class="mono">table.find</span> work with its rows.
  </p>
  <table v-else class="table">
    <thead>
      <tr>
        <th>Table</th>
        <th>Columns</th>
        <th class="num">Rows</th>
        <th class="wide-only">Made</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="table in list.items.value" :key="table.name" class="rowlink" @click="router.push(`/tables/${table.name}`)">
        <td>
          <RouterLink :to="`/tables/${table.name}`">{{ table.name }}</RouterLink>
        </td>
        <td class="quiet columns">{{ table.columns.map((column) => column.name).join(', ') }}</td>
        <td class="num">{{ table.link ? 'linked' : table.rows.toLocaleString() }}</td>
        <td class="wide-only"><TimeText :at="table.created_at" /></td>
      </tr>
    </tbody>
  </table>
  <MoreButton :list="list" />
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem 1rem;
  margin-bottom: 1rem;
}
.head p {
  margin: 0;
  flex: 1;
  min-width: 16rem;
}
.add {
  display: grid;
  gap: 0.8rem;
  max-width: 36rem;
  margin-bottom: 1.5rem;
}
legend {
  font-size: 1rem;
  margin: 0;
}
.column {
  display: flex;
  gap: 0.5rem;
  margin-bottom: 0.3rem;
}
.columns {
  overflow-wrap: anywhere;
}
</style>
