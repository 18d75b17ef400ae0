<script setup lang="ts">
import { BButton, BFormInput, BFormSelect, BFormTextarea } from 'bootstrap-vue-next'
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { api, data } from '../api/client'
import { every } from '../lib/lists'
import ProblemNote from './ProblemNote.vue'

/** A table whose rows live elsewhere: where they are, and by which columns one is told from all others. */
const emit = defineEmits<{ done: [table: string]; leave: [] }>()
const KINDS = [
  { value: 'database', text: 'in a database' },
  { value: 'file', text: 'in a file on a server' },
  { value: 'operations', text: 'behind a connector' },
]
const BEGUN = `{
  "list": {"do": "", "with": {}, "rows": "$.items"},
  "add": {"do": "", "with": {"body": "\${ row }"}}
}`
const kind = ref('database')
const given = reactive({ name: '', credential: '', table: '', schema: 'public', url: '', sheet: '' })
const operations = ref(BEGUN)
const columns = ref('')
const credentials = useQuery({
  queryKey: ['credentials', 'names'],
  queryFn: () => every((asked) => data(api.GET('/api/v1/credentials', { params: { query: asked } }))),
})
const fitting = computed(() => (credentials.data.value ?? []).filter((one) => (one.kind === 'database') === (kind.value === 'database')))
const named = computed(() => [
  { value: '', text: kind.value === 'database' ? 'choose' : 'none' },
  ...fitting.value.map((one) => ({ value: one.name, text: one.name })),
])
const problem = ref<Error | null>(null)
const busy = ref(false)
const key = computed(() => columns.value.split(/[\s,]+/).filter(Boolean))

function link(): Record<string, unknown> {
  const shared = { kind: kind.value, credential: given.credential || null, key: key.value }
  if (kind.value === 'database') return { ...shared, table: given.table, schema: given.schema }
  if (kind.value === 'file') return { ...shared, url: given.url, sheet: given.sheet }
  try {
    return { ...shared, ...(JSON.parse(operations.value) as object) }
  } catch (error) {
    throw new Error(`The operations are no JSON: ${(error as Error).message}`, { cause: error })
  }
}
async function make(): Promise<void> {
  problem.value = null
  busy.value = true
  try {
    const { columns: told = {}, ...rest } = link() as { columns?: Record<string, string> }
    const listed = Object.entries(told).map(([name, type]) => ({ name, type: type as 'text' }))
    await data(api.POST('/api/v1/tables', { body: { name: given.name, columns: listed, link: rest as never } }))
    emit('done', given.name)
  } catch (error) {
    problem.value = error as Error
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="link" aria-label="Link a table" @submit.prevent="make">
    <p class="quiet">
      Its rows stay where they are; the same actions, pages and triggers work with them there, as calls to the outside. How exact that is stands in
      the documentation of tables.
    </p>
    <label>Name of the table here <BFormInput v-model="given.name" size="sm" required pattern="[a-z][a-z0-9_\-]{0,60}" placeholder="stays" /></label>
    <label>Its rows are <BFormSelect v-model="kind" size="sm" :options="KINDS" /></label>
    <label>Credential <BFormSelect v-model="given.credential" size="sm" :options="named" :required="kind === 'database'" /></label>
    <p v-if="kind === 'database' && credentials.data.value && !fitting.length" class="quiet">
      There is no credential of the kind database yet: <RouterLink to="/credentials">store one</RouterLink>.
    </p>
    <template v-if="kind === 'database'">
      <label>Table there <BFormInput v-model="given.table" size="sm" required placeholder="stays" /></label>
      <label>Schema <BFormInput v-model="given.schema" size="sm" required /></label>
    </template>
    <template v-else-if="kind === 'file'">
      <label
        >Address of the file (CSV or a workbook, by WebDAV)
        <BFormInput v-model="given.url" size="sm" type="url" required placeholder="https://files.larkspur.example/bunks.xlsx"
      /></label>
      <label>Sheet, of a workbook <BFormInput v-model="given.sheet" size="sm" placeholder="the first" /></label>
    </template>
    <label v-else
      >Operations, as JSON: list, and as far as there are add, change, remove; in them row is the row as it shall be, old as it was found
      <BFormTextarea v-model="operations" class="mono" rows="7" spellcheck="false"
    /></label>
    <label
      >Columns that tell one row from all others
      <BFormInput v-model="columns" size="sm" :placeholder="kind === 'database' ? 'its primary key' : 'hut'"
    /></label>
    <ProblemNote v-if="problem" :problem="problem" />
    <div>
      <BButton type="submit" variant="primary" :disabled="busy">Link it</BButton>
      <BButton variant="link" @click="emit('leave')">Not now</BButton>
    </div>
  </form>
</template>

<style scoped>
.link {
  display: grid;
  gap: 0.8rem;
  max-width: 40rem;
  margin-bottom: 1.5rem;
}
p {
  margin: 0;
}
</style>
