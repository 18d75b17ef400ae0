<script setup lang="ts">
import TimeText from '../components/TimeText.vue'
import { useQueryClient } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, type Run } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import { money } from '../lib/format'
import { duration, moment } from '../lib/times'
import RunFilters from '../run/RunFilters.vue'
import { type Filter, KEYS, useRuns } from '../run/runs'

const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const filter = computed<Filter>({
  get: () => Object.fromEntries(KEYS.filter((k) => route.query[k]).map((k) => [k, String(route.query[k])])),
  set: (query) => void router.replace({ query }),
})
const filtered = computed(() => Object.keys(filter.value).length > 0)
const picked = ref<string[]>([])
const pointed = ref(false)
const focused = ref(false)
const wanted = ref(false) // somebody is at the word that shows newer runs
/** Nothing moves under the hand, or while something is chosen. */
const busy = computed(() => pointed.value || focused.value || wanted.value || picked.value.length > 0)
const { list, newer, show } = useRuns(filter, busy)
watch(newer, (some) => some || (wanted.value = false))
const runs = list.items
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
    <RunFilters v-model="filter" />
  </div>
  <ProblemNote v-if="list.query.error.value" :problem="list.query.error.value" :again="() => list.query.refetch()" />
  <LoadingLines v-else-if="list.query.isPending.value" />
  <p v-else-if="!runs.length && list.query.hasNextPage.value">Nothing found so far. <MoreButton :list="list" word="Look further back" /></p>
  <p v-else-if="!runs.length && filtered">No run fits these filters. <RouterLink to="/runs">Show all</RouterLink>.</p>
  <p v-else-if="!runs.length">
    No runs yet. <RouterLink to="/workflows">Choose a workflow</RouterLink> and start it, or send an event to its webhook.
  </p>
  <template v-else>
    <div class="many">
      <span v-if="picked.length">{{ picked.length }} chosen</span>
      <template v-if="picked.length">
        <BButton size="sm" variant="outline-primary" title="those that failed from where they failed, others from the start" @click="many('again')"
          >Run again</BButton
        >
        <BButton size="sm" variant="outline-danger" @click="many('cancel')">Cancel</BButton>
        <RouterLink v-if="picked.length === 2" :to="`/compare?a=${picked[0]}&b=${picked[1]}`" class="btn btn-sm btn-outline-primary"
          >Compare</RouterLink
        >
      </template>
      <span v-else role="status" class="quiet">{{ said }}</span>
      <button
        v-if="newer"
        type="button"
        class="btn btn-link btn-sm newer"
        @click="show"
        @pointerenter="wanted = true"
        @pointerleave="wanted = false"
        @focus="wanted = true"
        @blur="wanted = false">
        {{ newer }} newer {{ newer === 1 ? 'run' : 'runs' }}: show
      </button>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <table class="table" @pointerenter="pointed = true" @pointerleave="pointed = false" @focusin="focused = true" @focusout="focused = false">
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
        <tr v-for="(run, at) in runs" :key="at" class="rowlink" @click="router.push(`/runs/${run.id}`)">
          <td class="pick" @click.stop>
            <input v-model="picked" type="checkbox" :value="run.id" :aria-label="`Choose the run of ${run.workflow} ${moment(run.created_at)}`" />
          </td>
          <td><StateMark :state="run.state" class="wide-only" /><StateMark :state="run.state" bare class="narrow-only" /></td>
          <td class="what" :title="trouble(run) || run.note">
            <RouterLink :to="`/runs/${run.id}`">{{ run.workflow }}</RouterLink> <span class="quiet wide-only">version {{ run.version }}</span>
            <span v-if="run.mended_by" class="quiet mended" @click.stop>
              mended by <RouterLink :to="`/runs/${run.mended_by}`">a later run</RouterLink>
            </span>
            <span v-if="trouble(run)" class="trouble" :class="{ past: run.mended_by }">{{ trouble(run) }}</span>
            <span v-else-if="run.note" class="note">{{ run.note }}</span>
          </td>
          <td class="about">{{ run.subject ?? '–' }}</td>
          <td><TimeText :at="run.created_at" /></td>
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
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.75rem 1.5rem;
  align-items: center;
  margin-bottom: 0.25rem;
}
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
  margin-left: 0.75rem;
}
.what {
  max-width: 0;
  width: 45%;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.past {
  color: var(--relay-quiet);
}
.note,
.mended {
  font-size: 0.85rem;
  margin-left: 0.75rem;
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
  max-width: 14rem;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.newer {
  margin-left: auto;
}
@media (max-width: 700px) {
  .about {
    max-width: 6rem;
  }
  td,
  th {
    padding-left: 0.25rem;
    padding-right: 0.25rem;
  }
}
</style>
