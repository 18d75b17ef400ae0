<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, type Run } from '../api/client'
import type { operations } from '../api/schema'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import { duration, moment, money } from '../lib/format'
import { every, useList } from '../lib/lists'
import { useStream } from '../lib/live'

const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const KEYS = ['workflow', 'state', 'subject', 'text', 'error_kind', 'since'] as const
type Filter = Partial<Record<(typeof KEYS)[number], string>>
const filter = computed<Filter>(() => Object.fromEntries(KEYS.filter((k) => route.query[k]).map((k) => [k, String(route.query[k])])))

function field(key: (typeof KEYS)[number]) {
  return computed({
    get: () => filter.value[key] ?? '',
    set: (value) => void router.replace({ query: { ...filter.value, [key]: value || undefined } }),
  })
}
const [workflow, state, subject, text, kind, since] = KEYS.map(field)

const workflows = useQuery({
  queryKey: ['workflows', 'all'],
  queryFn: () => every((query) => data(api.GET('/api/v1/workflows', { params: { query } }))),
})
const list = useList(['runs', filter], (asked) => {
  const { state: one, since: hours, error_kind: kind, ...rest } = filter.value
  type Query = NonNullable<operations['list_runs']['parameters']['query']>
  const state = one === 'unmended' ? 'failed' : one === 'held' ? undefined : one
  const from = hours ? new Date(Date.now() - Number(hours) * 3600_000).toISOString() : undefined
  return data(
    api.GET('/api/v1/runs', {
      params: {
        query: {
          ...rest,
          error_kind: kind as Query['error_kind'],
          state: state ? ([state] as Query['state']) : undefined,
          mended: one === 'unmended' ? false : undefined,
          held: one === 'held' || undefined,
          since: from,
          ...asked,
        },
      },
    }),
  )
})
const runs = list.items
const filtered = computed(() => Object.keys(filter.value).length > 0)
let timer: number | undefined
function again(): void {
  timer ??= window.setTimeout(() => {
    timer = undefined
    void client.invalidateQueries({ queryKey: ['runs'] })
  }, 150)
}
useStream('/api/v1/runs/stream', { run: again, many: again })

const states = [
  { value: '', text: 'any state' },
  ...['queued', 'running', 'waiting', 'succeeded', 'failed', 'cancelled', 'set aside'].map((s) => ({ value: s, text: s })),
  { value: 'unmended', text: 'failed, not mended' },
  { value: 'held', text: 'held after a restore' },
]
const kinds = [
  { value: '', text: 'any error' },
  ...[
    'invalid',
    'denied',
    'missing',
    'busy',
    'unavailable',
    'timeout',
    'out_of_credit',
    'refused',
    'cut_off',
    'too_long',
    'wrong_shape',
    'over_limit',
    'no_progress',
    'diverged',
    'failed',
  ].map((k) => ({ value: k, text: k })),
]
const times = [
  { value: '', text: 'any time' },
  { value: '1', text: 'last hour' },
  { value: '24', text: 'last day' },
  { value: '168', text: 'last week' },
]
const names = computed(() => [
  { value: '', text: 'any workflow' },
  ...(workflows.data.value ?? []).map((w) => ({ value: w.name, text: w.title || w.name })),
])
const picked = ref<string[]>([])
const all = computed({
  get: () => runs.value.length > 0 && picked.value.length === runs.value.length,
  set: (on) => (picked.value = on ? runs.value.map((r) => r.id) : []),
})
const said = ref('')
const problem = ref<Error | null>(null)
async function many(action: 'again' | 'cancel'): Promise<void> {
  problem.value = null
  try {
    const told = (await data(api.POST('/api/v1/runs/many', { body: { ids: picked.value, action } }))) as {
      done: number
      refused: Record<string, string>
    }
    const refused = Object.values(told.refused)
    said.value =
      `${told.done} ${told.done === 1 ? 'run' : 'runs'} ${action === 'again' ? 'begun again' : 'cancelled'}` +
      (refused.length ? `; ${refused.length} refused: ${refused[0]}` : '')
    picked.value = []
    await client.invalidateQueries({ queryKey: ['runs'] })
  } catch (error) {
    problem.value = error as Error
  }
}
const trouble = (run: Run) => (run.error?.message as string | undefined) ?? ''
</script>

<template>
  <div class="head">
    <h1>Runs</h1>
    <div class="filters">
      <BFormSelect v-model="workflow" :options="names" size="sm" aria-label="Workflow" />
      <BFormSelect v-model="state" :options="states" size="sm" aria-label="State" />
      <BFormSelect v-model="kind" :options="kinds" size="sm" aria-label="Kind of error" />
      <BFormSelect v-model="since" :options="times" size="sm" aria-label="Time" />
      <BFormInput v-model.lazy="subject" size="sm" placeholder="about whom or what" aria-label="Subject" />
      <BFormInput
        v-model.lazy="text"
        type="search"
        size="sm"
        placeholder="words in it"
        aria-label="Words in it"
        title="words of its input, its result, its error, or a part of its id" />
    </div>
  </div>
  <ProblemNote v-if="list.query.error.value" :problem="list.query.error.value" />
  <LoadingLines v-else-if="list.query.isPending.value" />
  <p v-else-if="!runs.length && list.query.hasNextPage.value">Nothing found so far. <MoreButton :list="list" word="Look further back" /></p>
  <p v-else-if="!runs.length && filtered">No run fits these filters. <RouterLink to="/runs">Show all</RouterLink>.</p>
  <p v-else-if="!runs.length">
    No runs yet. <RouterLink to="/workflows">Choose a workflow</RouterLink> and start it, or send an event to its webhook.
  </p>
  <template v-else>
    <div v-if="picked.length || said" class="many">
      <span v-if="picked.length">{{ picked.length }} chosen</span>
      <template v-if="picked.length">
        <BButton size="sm" variant="outline-primary" title="those that failed from where they failed, others from the start" @click="many('again')"
          >Run again</BButton
        >
        <BButton size="sm" variant="outline-danger" @click="many('cancel')">Cancel</BButton>
      </template>
      <span v-else role="status" class="quiet">{{ said }}</span>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <table class="table">
      <thead>
        <tr>
          <th class="pick"><input v-model="all" type="checkbox" aria-label="Choose all" /></th>
          <th>State</th>
          <th>Workflow</th>
          <th>About</th>
          <th>Began</th>
          <th class="num">Took</th>
          <th class="num wide-only">Steps</th>
          <th class="num wide-only">Attempts</th>
          <th class="num wide-only">Tokens</th>
          <th class="num wide-only">Money</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="run in runs" :key="run.id" class="rowlink" @click="router.push(`/runs/${run.id}`)">
          <td class="pick" @click.stop>
            <input v-model="picked" type="checkbox" :value="run.id" :aria-label="`Choose the run of ${run.workflow} ${moment(run.created_at)}`" />
          </td>
          <td><StateMark :state="run.state" class="wide-only" /><StateMark :state="run.state" bare class="narrow-only" /></td>
          <td>
            <RouterLink :to="`/runs/${run.id}`">{{ run.workflow }}</RouterLink> <span class="quiet wide-only">version {{ run.version }}</span>
            <div v-if="run.mended_by" class="quiet mended" @click.stop>
              mended by <RouterLink :to="`/runs/${run.mended_by}`">a later run</RouterLink>
            </div>
            <div v-if="trouble(run)" class="trouble" :class="{ past: run.mended_by }">{{ trouble(run) }}</div>
            <div v-else-if="run.note" class="note">{{ run.note }}</div>
          </td>
          <td class="about">{{ run.subject ?? '–' }}</td>
          <td :title="run.created_at">{{ moment(run.created_at) }}</td>
          <td class="num">{{ duration(run.seconds) }}</td>
          <td class="num wide-only">{{ run.steps }}</td>
          <td class="num wide-only" :class="{ more: run.attempts > run.steps }">{{ run.attempts }}</td>
          <td class="num wide-only">{{ run.tokens_in + run.tokens_out }}</td>
          <td class="num wide-only">{{ money(run.money, run.unpriced) }}</td>
        </tr>
      </tbody>
    </table>
    <MoreButton :list="list" word="Show older" />
  </template>
</template>

<style scoped>
td a,
.trouble {
  overflow-wrap: anywhere;
}
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.75rem 1.5rem;
  align-items: center;
  margin-bottom: 1rem;
}
.filters {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  margin-left: auto;
}
.filters > * {
  width: auto;
  min-width: 8.5rem;
  max-width: 13rem;
}
.trouble {
  color: var(--relay-failed);
  font-size: 0.85rem;
  max-width: 60ch;
  overflow: hidden;
  text-overflow: ellipsis;
  display: -webkit-box;
  -webkit-line-clamp: 2;
  -webkit-box-orient: vertical;
}
.past {
  color: var(--relay-quiet);
}
.note,
.mended {
  font-size: 0.85rem;
  max-width: 60ch;
  overflow-wrap: anywhere;
}
.note {
  color: var(--relay-waiting);
}
.many {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: center;
  margin-bottom: 0.5rem;
  min-height: 2rem;
}
.pick {
  width: 2rem;
}
.about {
  overflow-wrap: anywhere;
}
@media (max-width: 700px) {
  .about {
    word-break: break-all;
  }
  td,
  th {
    padding-left: 0.25rem;
    padding-right: 0.25rem;
  }
  .filters {
    margin-left: 0;
    width: 100%;
  }
  .filters > * {
    flex: 1 1 45%;
    min-width: 0;
  }
}
</style>
