<script setup lang="ts">
import { computed } from 'vue'
import { expression, reference } from '../edit/expressions'
import { loopsAround } from '../edit/loops'
import { freeName } from '../edit/scope'
import { nameOf, pathOf } from '../edit/source'
import { everyStep, insertSteps } from '../edit/steps'
import { asText } from './catalogue'
import type { Known } from './data'
import type { Draft } from './draft'
import type { Language } from './language'
import type { Row } from './rows'

/** Of a line that is done for each row of a table: writes what it gives into a column of that row, by a line behind it. */
const props = defineProps<{ draft: Draft; row: Row; language: Language; known: Known }>()
const emit = defineEmits<{ chosen: [path: string] }>()
const GIVES = new Set(['do', 'run'])
const rows = computed(() => {
  const source = props.draft.source.value
  if (!source || !GIVES.has(props.row.kind) || String(source.value([...pathOf(props.row.path), 'do'])).startsWith('table.')) return null
  const loop = loopsAround(source, pathOf(props.row.path))[0]
  if (loop?.list.length !== 2 || loop.list[1] !== 'rows') return null
  const finding = everyStep(source).find((path) => source.value([...path, 'step']) === loop.list[0] && source.value([...path, 'do']) === 'table.find')
  const table = finding && source.value([...finding, 'with', 'table'])
  const columns = typeof table === 'string' ? props.language.columns.value.get(table) : undefined
  return columns?.length ? { table: table as string, columns, as: loop.as } : null
})
/** What of the line is written: of a model its text, of others all of it. */
const given = computed(() => {
  const { step } = props.row
  const result = props.known.results[step]
  const text = props.known.shapes[step]?.properties?.text ?? (result && typeof result === 'object' && 'text' in result)
  return text ? [step, 'text'] : [step]
})
/** Whether a line behind it writes it already. */
const written = computed(() => {
  const source = props.draft.source.value
  const path = pathOf(props.row.path)
  const next = source?.value([...path.slice(0, -1), (path.at(-1) as number) + 1]) as { do?: unknown; with?: { row?: object } } | undefined
  return (
    next?.do === 'table.upsert' &&
    Object.values(next.with?.row ?? {}).some((one) => typeof one === 'string' && reference(one)?.[0] === props.row.step)
  )
})
function write(column: string): void {
  const found = rows.value
  if (!found) return
  const path = pathOf(props.row.path)
  const to = [...path.slice(0, -1), (path.at(-1) as number) + 1]
  const key = found.columns.find((one) => one !== column) ?? column
  const done = props.draft.edit((source) =>
    insertSteps(
      source,
      to.slice(0, -1),
      to.at(-1) as number,
      asText({
        step: freeName(source, `keep_${column}`),
        do: 'table.upsert',
        with: { table: found.table, match: [key], row: { [key]: expression([found.as, key]), [column]: expression(given.value) } },
      }),
    ),
  )
  if (done) emit('chosen', nameOf(to))
}
</script>

<template>
  <p v-if="rows && !written" class="mb-1">
    <label>
      Write what it gives into the row’s
      <select class="form-select form-select-sm d-inline-block w-auto" @change="write(($event.target as HTMLSelectElement).value)">
        <option value="">column</option>
        <option v-for="one in rows.columns" :key="one" :value="one">{{ one }}</option>
      </select>
    </label>
  </p>
</template>
