<script setup lang="ts">
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { type FileValue, keep } from '../lib/files'
import ProblemNote from './ProblemNote.vue'

/** Rows of a file (CSV, JSON Lines, a workbook) into a table: what would be done is said first. Without `into` a table is made. */
const props = defineProps<{ into?: string }>()
const emit = defineEmits<{ done: [table: string, told: Schemas['ImportOut']]; leave: [] }>()
const name = ref(props.into ?? '')
const file = ref<FileValue | null>(null)
const sheet = ref('')
const match = ref('')
const told = ref<Schemas['ImportOut'] | null>(null)
const problem = ref<Error | null>(null)
const busy = ref(false)
const body = computed(() => ({
  file: file.value?.file,
  sheet: sheet.value,
  columns: {},
  match: match.value.split(/[\s,]+/).filter(Boolean),
  create: !props.into,
}))
async function send(check: boolean): Promise<void> {
  problem.value = null
  busy.value = true
  try {
    const found = await data(api.POST('/api/v1/tables/{name}/import', { params: { path: { name: name.value } }, body: { ...body.value, check } }))
    if (check) told.value = found
    else emit('done', name.value, found)
  } catch (error) {
    told.value = null
    problem.value = error as Error
  } finally {
    busy.value = false
  }
}
async function take(event: Event): Promise<void> {
  const one = (event.target as HTMLInputElement).files?.[0]
  if (!one) return
  told.value = problem.value = null
  sheet.value = ''
  busy.value = true
  try {
    file.value = await keep(one)
  } catch (error) {
    problem.value = error as Error
    return
  } finally {
    busy.value = false
  }
  if (!name.value)
    name.value =
      one.name
        .toLowerCase()
        .replace(/\.\w+$/, '')
        .replaceAll(/[^a-z0-9_-]+/g, '_')
        .replace(/^[^a-z]+/, '') || 'table'
  await send(true)
}
</script>

<template>
  <form class="import" @submit.prevent="send(false)">
    <label
      >A file: CSV or a workbook, its first line the heads, or JSON Lines
      <input type="file" accept=".csv,.tsv,.jsonl,.ndjson,.xlsx,text/csv" class="form-control form-control-sm" @change="take"
    /></label>
    <label v-if="told && told.sheets.length > 1"
      >Sheet
      <BFormSelect v-model="sheet" size="sm" :options="told.sheets.map((one, at) => ({ value: at ? one : '', text: one }))" @change="send(true)"
    /></label>
    <label v-if="!into"
      >Name of the table <BFormInput v-model="name" size="sm" pattern="[a-z][a-z0-9_\-]{0,60}" required @change="file && send(true)"
    /></label>
    <label
      >Rows with the same are updated (columns, if any)
      <BFormInput v-model="match" size="sm" placeholder="no column: all rows are added" @change="file && send(true)"
    /></label>
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="told">
      <p role="status">
        {{ told.rows.toLocaleString() }} rows of {{ file?.name }}<template v-if="told.created">, a new table {{ name }}</template
        >: {{ told.columns.map((column) => `${column.name} (${column.type})`).join(', ') }}
      </p>
      <ul v-if="told.faults.length" class="faults">
        <li v-for="fault in told.faults.slice(0, 20)" :key="fault.line">line {{ fault.line }}: {{ fault.message }}</li>
      </ul>
    </template>
    <div>
      <BButton type="submit" variant="primary" :disabled="!told || !!told.faults.length || busy">Take them</BButton>
      <BButton variant="link" @click="emit('leave')">Not now</BButton>
    </div>
  </form>
</template>

<style scoped>
.import {
  display: grid;
  gap: 0.8rem;
  max-width: 40rem;
  margin-bottom: 1.5rem;
}
p {
  margin: 0;
  overflow-wrap: anywhere;
}
.faults {
  color: var(--relay-failed);
  margin: 0;
}
</style>
