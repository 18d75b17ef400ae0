<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Draft } from './draft'
import type { Language } from './language'
import type { Row } from './rows'
import type { Tries } from './tries'

/** Try a line, what stands behind it too, or all; what would leave the house is said before the first time. */
const props = defineProps<{ row: Row | undefined; rows: Row[]; tries: Tries; language: Language; draft: Draft; input: unknown; sample: string }>()
const asked = ref<{ step: string; onwards: boolean; sends: string[] } | null>(null)
const agreed = new Set<string>()
const first = computed(() => props.rows.find((one) => one.own))
const ready = computed(() => props.draft.checked.value?.sound ?? false)

/** What of these lines reaches outside, and does it again with every try. */
function sends(row: Row, onwards: boolean): string[] {
  const from = props.rows.indexOf(row)
  const lines = onwards ? props.rows.slice(from) : props.rows.filter((one) => one === row || one.path.startsWith(`${row.path}.`))
  return lines
    .filter((one) => {
      const action = props.language.actions.value.find(
        (other) =>
          other.name === props.draft.source.value?.value([...one.path.split('.').map((part) => (/^\d+$/.test(part) ? Number(part) : part)), 'do']),
      )
      return action && action.reach === 'outside' && action.repeat !== 'safe' && !agreed.has(`${one.path} ${action.name}`)
    })
    .map((one) => one.sentence)
}
function begin(row: Row | undefined, onwards: boolean): void {
  if (!row) return
  const found = sends(row, onwards)
  if (found.length) asked.value = { step: row.step, onwards, sends: found }
  else void props.tries.run(row.step, onwards, props.input, props.sample)
}
function agree(): void {
  const given = asked.value
  asked.value = null
  if (!given) return
  for (const row of props.rows) {
    const action = props.draft.source.value?.value([...row.path.split('.').map((part) => (/^\d+$/.test(part) ? Number(part) : part)), 'do'])
    if (given.sends.includes(row.sentence)) agreed.add(`${row.path} ${String(action)}`)
  }
  void props.tries.run(given.step, given.onwards, props.input, props.sample)
}
</script>

<template>
  <span class="tries">
    <button type="button" class="btn btn-outline-primary btn-sm" :disabled="!ready || !row?.own || tries.busy.value" @click="begin(row, false)">
      Try
    </button>
    <button type="button" class="btn btn-outline-primary btn-sm" :disabled="!ready || !row?.own || tries.busy.value" @click="begin(row, true)">
      Try from here
    </button>
    <button type="button" class="btn btn-outline-primary btn-sm" :disabled="!ready || !first || tries.busy.value" @click="begin(first, true)">
      Try all
    </button>
    <span role="status" class="quiet">
      {{
        tries.busy.value
          ? 'Trying …'
          : tries.last.value
            ? tries.last.value.waits
              ? `It would rest at ${tries.last.value.waits}`
              : tries.last.value.state
            : ''
      }}
    </span>
  </span>
  <div v-if="asked" class="ask" role="alertdialog" aria-label="This leaves the house">
    <p>This really happens outside, now and with every try:</p>
    <ul>
      <li v-for="one in asked.sends" :key="one">{{ one }}</li>
    </ul>
    <button type="button" class="btn btn-primary btn-sm" @click="agree">Do it</button>
    <button type="button" class="btn btn-link btn-sm" @click="asked = null">Not now</button>
  </div>
</template>

<style scoped>
.tries {
  display: inline-flex;
  flex-wrap: wrap;
  gap: 0.3rem;
  align-items: center;
}
.ask {
  flex-basis: 100%;
  border-left: 3px solid var(--relay-waiting);
  padding-left: 0.75rem;
}
ul {
  margin: 0 0 0.4rem;
}
</style>
