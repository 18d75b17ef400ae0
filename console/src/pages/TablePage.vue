<script setup lang="ts">
import TimeText from '../components/TimeText.vue'
import { type InfiniteData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, defineAsyncComponent, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import AskSure from '../components/AskSure.vue'
import GridCell from '../components/GridCell.vue'
import ImportRows from '../components/ImportRows.vue'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import RowFilter from '../components/RowFilter.vue'
import { every, type Part, useList } from '../lib/lists'
import { later, toast } from '../lib/toasts'

type Row = Schemas['RowOut']
const StartWith = defineAsyncComponent(() => import('../components/StartWith.vue'))
const KINDS = { csv: 'CSV', jsonl: 'JSON Lines', xlsx: 'workbook' }
const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const query = (key: string) =>
  computed({
    get: () => String(route.query[key] ?? ''),
    set: (value: string) => void router.replace({ query: { ...route.query, [key]: value || undefined } }),
  })
const [text, order, where, by] = [query('text'), query('order'), query('where'), query('by')]
const tables = useQuery({
  queryKey: ['tables', 'all'],
  queryFn: () => every((asked) => data(api.GET('/api/v1/tables', { params: { query: asked } }))),
})
const table = computed(() => tables.data.value?.find((one) => one.name === props.name))
/** Where its rows live, when that is elsewhere. */
const link = computed(
  () => table.value?.link as { kind: string; table?: string; url?: string; list?: { do: string }; key?: string[] } | null | undefined,
)
const lives = computed(() => link.value && (link.value.url ?? link.value.list?.do ?? `the table ${link.value.table} of a database`))
/** A row is changed where it can be told from all others. */
const fixed = computed(() => !!link.value && !link.value.key?.length)
const key = ['rows', props.name, text, order, where, by] as const
const list = useList(
  key,
  (asked) =>
    data(
      api.GET('/api/v1/tables/{name}/rows', {
        params: {
          path: { name: props.name },
          query: {
            ...asked,
            text: text.value || undefined,
            newest: order.value !== 'oldest',
            where: where.value || undefined,
            order: by.value ? [by.value] : undefined,
          },
        },
      }),
    ),
  { limit: 100 },
)
const gone = ref<string[]>([])
const shown = computed(() => list.items.value.filter((row) => !gone.value.includes(row.id)))
const problem = ref<Error | null>(null)
const adding = ref(false)
const importing = ref(false)
const removing = ref(false)
const starting = ref<Row | null>(null)
const fresh = ref<Record<string, unknown>>({})
const path = (row: Row) => ({ path: { name: props.name, row_id: row.id }, header: { 'if-match': `"${row.tag}"` } })
const cell = (row: Row, column: string) => (row.row as Record<string, unknown>)[column]
/** By a column: from the least up, from the greatest down, as they came. */
const turn = (column: string) => (by.value = by.value === column ? `-${column}` : by.value === `-${column}` ? '' : column)
const sorted = (column: string) => (by.value === column ? 'ascending' : by.value === `-${column}` ? 'descending' : undefined)
const again = () => Promise.all([client.invalidateQueries({ queryKey: ['rows', props.name] }), client.invalidateQueries({ queryKey: ['tables'] })])

/** What is written stands at once, and goes back when it is refused. */
async function change(row: Row, column: string, value: unknown): Promise<void> {
  problem.value = null
  const put = (given: unknown) =>
    client.setQueryData<InfiniteData<Part<Row>>>(
      ['rows', props.name, text.value, order.value, where.value, by.value],
      (old) =>
        old && {
          ...old,
          pages: old.pages.map((page) => ({
            ...page,
            items: page.items.map((one) => (one.id === row.id ? { ...one, row: { ...one.row, [column]: given } } : one)),
          })),
        },
    )
  put(value)
  try {
    await data(api.PATCH('/api/v1/tables/{name}/rows/{row_id}', { params: path(row), body: { [column]: value } }))
    await client.invalidateQueries({ queryKey: ['rows', props.name] })
  } catch (error) {
    put(cell(row, column))
    problem.value = error as Error
  }
}
async function add(): Promise<void> {
  problem.value = null
  try {
    await data(api.POST('/api/v1/tables/{name}/rows', { params: { path: { name: props.name } }, body: { rows: [fresh.value] } }))
    fresh.value = {}
    adding.value = false
    await again()
  } catch (error) {
    problem.value = error as Error
  }
}
async function remove(row: Row): Promise<void> {
  gone.value = [...gone.value, row.id]
  await later('The row is removed.', (keepalive) => data(api.DELETE('/api/v1/tables/{name}/rows/{row_id}', { params: path(row), keepalive })))
  await again()
  gone.value = gone.value.filter((id) => id !== row.id)
}
async function drop(): Promise<void> {
  try {
    await data(api.DELETE('/api/v1/tables/{name}', { params: { path: { name: props.name } } }))
    await client.invalidateQueries({ queryKey: ['tables'] })
    await router.push('/tables')
  } catch (error) {
    problem.value = error as Error
  }
}
async function imported(_: string, told: Schemas['ImportOut']): Promise<void> {
  importing.value = false
  toast(`${told.added} rows added, ${told.updated} updated.`)
  await again()
}
</script>

<template>
  <nav aria-label="Where this is" class="quiet"><RouterLink to="/tables">Tables</RouterLink> ›</nav>
  <div class="head">
    <h1>{{ name }}</h1>
    <span v-if="lives" class="quiet lives">linked to {{ lives }}<template v-if="fixed">, without a key: rows are only added</template></span>
    <span v-else-if="table" class="quiet">{{ table.rows.toLocaleString() }} {{ table.rows === 1 ? 'row' : 'rows' }}</span>
    <div class="hands">
      <BFormInput v-model.lazy="text" type="search" size="sm" placeholder="words in a row" aria-label="Find rows" maxlength="200" />
      <BFormSelect
        v-if="!link && !by"
        v-model="order"
        size="sm"
        aria-label="Order"
        :options="[
          { value: '', text: 'newest first' },
          { value: 'oldest', text: 'oldest first' },
        ]" />
      <BButton size="sm" variant="primary" @click="adding = !adding">Add a row</BButton>
      <BButton v-if="!link" size="sm" variant="outline-primary" @click="importing = !importing">Import…</BButton>
      <span class="quiet export">
        Export as
        <template v-for="(title, kind, at) in KINDS" :key="kind"
          >{{ at ? ', ' : '' }}<a :href="`/api/v1/tables/${name}/rows.${kind}`">{{ title }}</a></template
        >
      </span>
      <BButton size="sm" variant="outline-danger" @click="removing = true">Remove…</BButton>
    </div>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <ImportRows v-if="importing" :into="name" @done="imported" @leave="importing = false" />
  <RowFilter v-if="table" v-model="where" :columns="table.columns as { name: string; type: string }[]" />
  <ProblemNote v-if="list.query.error.value" :problem="list.query.error.value" :again="() => list.query.refetch()" />
  <LoadingLines v-else-if="!table || list.query.isPending.value" />
  <div v-else class="scroll" tabindex="0" role="region" :aria-label="`Rows of ${name}`">
    <table class="table table-sm">
      <thead>
        <tr>
          <th v-for="column in table.columns" :key="column.name" :class="{ num: column.type === 'number' }" :aria-sort="sorted(column.name ?? '')">
            <button type="button" class="by" :title="`${column.type}; order by it`" @click="turn(column.name ?? '')">
              {{ column.name }}<span v-if="sorted(column.name ?? '')" aria-hidden="true"> {{ by.startsWith('-') ? '↓' : '↑' }}</span>
            </button>
          </th>
          <th v-if="!link">Changed</th>
          <th><span class="visually-hidden">What may be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-if="adding">
          <td v-for="column in table.columns" :key="column.name">
            <GridCell
              :value="fresh[column.name]"
              :type="column.type ?? 'text'"
              :name="column.name ?? ''"
              @change="fresh[column.name ?? ''] = $event" />
          </td>
          <td colspan="2">
            <BButton size="sm" variant="primary" :disabled="!Object.keys(fresh).length" @click="add">Add</BButton>
            <BButton size="sm" variant="link" @click="adding = false">Not now</BButton>
          </td>
        </tr>
        <tr v-for="row in shown" :key="row.id">
          <td v-for="column in table.columns" :key="column.name">
            <GridCell
              :value="cell(row, column.name ?? '')"
              :fixed="fixed || !!link?.key?.includes(column.name ?? '')"
              :type="column.type ?? 'text'"
              :name="column.name ?? ''"
              @change="change(row, column.name ?? '', $event)" />
          </td>
          <td v-if="!link" class="quiet when"><TimeText :at="row.updated_at" /></td>
          <td class="when acts">
            <BButton size="sm" variant="link" @click="starting = row">Start…</BButton>
            <BButton v-if="!fixed" size="sm" variant="link" class="text-danger" aria-label="Remove this row" @click="remove(row)">×</BButton>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="!shown.length && !adding" class="quiet">
      {{ where ? 'No row is so.' : text ? 'No row has these words.' : 'No rows yet. Add one here, import a file, or let a workflow add them.' }}
    </p>
  </div>
  <MoreButton :list="list" />
  <StartWith v-if="starting" :row="starting.row" @leave="starting = null" />
  <AskSure v-model="removing" :title="`Remove the table ${name}?`" ok="Remove it" @sure="drop">
    <template v-if="link">Its rows stay where they are; workflows that use it fail.</template>
    <template v-else>All its {{ table?.rows.toLocaleString() }} rows go with it, and workflows that use it fail. This cannot be undone.</template>
  </AskSure>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.5rem 1rem;
  margin-bottom: 1rem;
}
h1 {
  overflow-wrap: anywhere;
}
.hands {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  margin-left: auto;
}
.hands > .form-control,
.hands > .form-select {
  width: auto;
}
.scroll {
  overflow: auto;
  max-height: calc(100vh - 13rem);
}
thead th {
  position: sticky;
  top: 0;
  background: var(--bs-body-bg);
  z-index: 1;
}
.by {
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  padding: 0;
}
td {
  max-width: 22rem;
  min-width: 5rem;
}
.when {
  white-space: nowrap;
  min-width: 0;
}
.acts {
  position: sticky;
  right: 0;
  background: var(--bs-body-bg);
}
.acts .btn {
  padding: 0 0.3rem;
}
.export {
  align-self: center;
}
</style>
