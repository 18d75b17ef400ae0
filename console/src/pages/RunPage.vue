<script setup lang="ts">
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, onScopeDispose, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import { money } from '../lib/format'
import { duration, moment } from '../lib/times'
import { useLive, useSoon } from '../lib/live'
import EventResult from '../run/EventResult.vue'
import RunActions from '../run/RunActions.vue'
import RunScript from '../run/RunScript.vue'
import SpanRecord from '../run/SpanRecord.vue'
import { isAround } from '../run/timeline'
import { useWriting } from '../run/writing'

const props = defineProps<{ id: string }>()
const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const path = { run_id: props.id }
const OVER = ['succeeded', 'failed', 'cancelled', 'set aside']
const chosen = computed(() => String(route.query.step ?? ''))
/** The place in whose items the lists are open: the chosen one, or one chosen before beside which it stands. */
const at = computed(() => String(route.query.in ?? chosen.value))

const page = useQuery({ queryKey: ['run', props.id], queryFn: () => data(api.GET('/api/v1/runs/{run_id}', { params: { path } })) })
const over = computed(() => OVER.includes(view.data.value?.run.state ?? page.data.value?.run.state ?? ''))
let took = 0
/** What takes the service long is asked for less often. */
const apart = (least: number) => Math.max(least, took * 5)
const view = useQuery({
  queryKey: ['view', props.id, at],
  queryFn: async () => {
    const began = performance.now()
    const found = await data(api.GET('/api/v1/runs/{run_id}/view', { params: { path, query: { at: at.value } } }))
    took = performance.now() - began
    return found
  },
  placeholderData: keepPreviousData,
  refetchInterval: (query) => (OVER.includes(query.state.data?.run.state ?? '') ? false : apart(2000)),
})
const run = computed(() => view.data.value?.run ?? page.data.value?.run ?? null)
const spans = computed(() => view.data.value?.spans ?? [])
watch(
  () => run.value?.state,
  (now, before) => before && now !== before && page.refetch(),
)
const soon = useSoon(
  () => !over.value && client.invalidateQueries({ queryKey: ['view', props.id] }, { cancelRefetch: false }),
  () => apart(500),
)
const writing = useWriting(spans)
useLive(
  {
    run: (one) => (one.id === props.id || one.parent_id === props.id) && soon(),
    many: soon,
    piece: (piece) => piece.run === props.id && writing.write(piece),
  },
  props.id,
)

const now = ref(Date.now())
const clock = window.setInterval(() => !over.value && (now.value = Date.now()), 500)
onScopeDispose(() => window.clearInterval(clock))

const worst = computed(
  () => spans.value.find((s) => s.state === 'failed' && s.tried && s.kind === 'step') ?? spans.value.find((s) => s.tried > 1) ?? null,
)
/** A turn or a call in an agent is chosen as its agent is. */
const shown = computed(() => chosen.value.replace(/\/.*$/, '') || worst.value?.path || '')
const span = computed(() => spans.value.find((s) => s.path === shown.value) ?? null)
const line = computed(() => view.data.value?.script.find((l) => l.trace === span.value?.line && l.kind !== 'arm' && l.kind !== 'strand') ?? null)
/** A place is chosen; the items that are shown stay when it stands beside or around them. */
function choose(step: string): void {
  const stays = at.value !== step && isAround(step, at.value)
  void router.replace({ query: { ...route.query, step: step || undefined, in: stays ? at.value : undefined } })
}
/** The same line in another item, where a line within the list is chosen; else the item alone. */
function item(place: string): void {
  const loop = place.slice(0, place.lastIndexOf('['))
  const rest = shown.value.startsWith(`${loop}[`) ? shown.value.slice(loop.length).replace(/^\[\d+\]/, '') : ''
  choose(place + rest.replaceAll(/\[\d+\]/g, '[0]'))
}

const from = computed(() => Date.parse(run.value?.started_at ?? run.value?.created_at ?? new Date().toISOString()))
const to = computed(() => (run.value?.ended_at ? Date.parse(run.value.ended_at) : now.value))
const seconds = computed(() => (run.value?.started_at ? (to.value - from.value) / 1000 : null))
const place = (how: string | null | undefined) => ({ start: 'from the start', failure: 'from where it failed' })[how ?? ''] ?? 'from a step'
const facts = computed(() =>
  run.value
    ? [
        ['Took', duration(seconds.value)],
        ['Steps', run.value.steps],
        ['Attempts', run.value.attempts],
        ['Tokens', run.value.tokens_in + run.value.tokens_out],
        ['Money', money(run.value.money, run.value.unpriced)],
      ]
    : [],
)
</script>

<template>
  <ProblemNote v-if="page.error.value" :problem="page.error.value" :again="() => page.refetch()" />
  <LoadingLines v-else-if="!run || !page.data.value" />
  <template v-else>
    <div class="head">
      <div>
        <h1>
          <StateMark :state="run.state" /> <RouterLink :to="`/workflows/${run.workflow}?version=${run.version}`">{{ run.workflow }}</RouterLink>
        </h1>
        <p class="quiet">
          version {{ run.version }}, started by {{ run.trigger
          }}<template v-if="run.subject"
            >, about <RouterLink :to="`/runs?subject=${encodeURIComponent(run.subject)}`">{{ run.subject }}</RouterLink></template
          >,
          <span :title="run.created_at">{{ moment(run.created_at) }}</span>
          <template v-if="run.origin_id"
            >; again, {{ place(run.origin_how) }}, of <RouterLink :to="`/runs/${run.origin_id}`">an earlier run</RouterLink></template
          >
          <template v-if="run.parent_id">; started by <RouterLink :to="`/runs/${run.parent_id}`">another run</RouterLink></template>
          <template v-if="page.data.value.workers.length"
            >; on <span class="mono">{{ page.data.value.workers.slice(0, 3).join(', ') }}</span></template
          >
        </p>
      </div>
      <dl>
        <div v-for="[name, value] in facts" :key="name">
          <dt>{{ name }}</dt>
          <dd>{{ value }}</dd>
        </div>
      </dl>
    </div>
    <RunActions :run="run" :over="over" :path="shown" :state="span?.state ?? ''" />
    <p v-if="run.note" class="why">{{ run.note }}</p>
    <p v-if="run.mended_by">Mended later by <RouterLink :to="`/runs/${run.mended_by}`">the run that did it again</RouterLink>.</p>
    <div v-if="run.error" class="cause" role="alert">
      <strong>{{ run.error.kind }}</strong> {{ run.error.message }}
      <div v-if="run.error.fix">What to do: {{ run.error.fix }}</div>
    </div>
    <p v-if="!over && page.data.value.why" class="why">
      {{ page.data.value.why }} <RouterLink v-if="page.data.value.questions" to="/tray">Answer it in the tray</RouterLink>
    </p>

    <div v-if="!over && writing.pieces.value.length" class="writing" role="status" aria-label="Being written">
      <p v-for="one in writing.pieces.value" :key="one.path">
        <span class="quiet mono">{{ one.path }}</span> {{ one.text }}
      </p>
    </div>
    <ProblemNote v-if="view.error.value" :problem="view.error.value" :again="() => view.refetch()" />
    <div class="sides">
      <RunScript
        v-if="view.data.value"
        :run="id"
        :lines="view.data.value.script"
        :spans="spans"
        :loops="view.data.value.loops"
        :from="from"
        :to="to"
        :chosen="shown"
        :live="!over"
        @choose="choose"
        @item="item" />
      <LoadingLines v-else />
      <div class="side">
        <SpanRecord v-if="span && line" :key="id" :span="span" :line="line" :run="id" :at="chosen" />
        <p v-else-if="chosen && view.data.value" class="quiet">Nothing happened at {{ chosen }}.</p>
        <p v-else class="quiet">Choose a step to see what it was given, what it did and what it gave.</p>
        <EventResult :detail="page.data.value" :brief="!!span" />
      </div>
    </div>
  </template>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 2rem;
  align-items: flex-start;
  margin-bottom: 0.75rem;
}
.head > div {
  flex: 1 1 24rem;
  min-width: 0;
}
.head p {
  margin: 0;
  overflow-wrap: anywhere;
}
h1 {
  overflow-wrap: anywhere;
}
dl {
  display: flex;
  flex-wrap: wrap;
  gap: 0.25rem 1.5rem;
  margin: 0;
}
dt {
  font-weight: 400;
  color: var(--relay-quiet);
  font-size: 0.85rem;
}
dd {
  margin: 0;
  font-weight: 550;
}
.cause {
  border-left: 3px solid var(--relay-failed);
  padding-left: 0.75rem;
  margin-bottom: 1rem;
  overflow-wrap: anywhere;
}
.writing {
  border-left: 3px solid var(--relay-running);
  padding-left: 0.75rem;
  margin-bottom: 1rem;
}
.writing p {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.why {
  color: var(--relay-waiting);
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 7fr) minmax(0, 5fr);
  gap: 1.5rem;
  align-items: start;
}
.side {
  position: sticky;
  top: 0.5rem;
  max-height: calc(100vh - 1rem);
  overflow: auto;
  min-width: 0;
  padding: 2px;
}
@media (max-width: 1000px) {
  .sides {
    grid-template-columns: minmax(0, 1fr);
  }
  .side {
    position: static;
    max-height: none;
  }
}
</style>
