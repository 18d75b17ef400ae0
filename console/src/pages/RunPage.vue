<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, onScopeDispose, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, type Line, type Run, type Span } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import RunActions from '../components/RunActions.vue'
import RunScript from '../components/RunScript.vue'
import SpanRecord from '../components/SpanRecord.vue'
import StateMark from '../components/StateMark.vue'
import { duration, money, moment } from '../lib/format'
import { useStream } from '../lib/live'
import ValueView from '../components/ValueView.vue'

const props = defineProps<{ id: string }>()
const route = useRoute()
const router = useRouter()
const path = { params: { path: { run_id: props.id } } }
const page = useQuery({ queryKey: ['run', props.id], queryFn: () => data(api.GET('/api/v1/runs/{run_id}', path)) })
const trace = useQuery({ queryKey: ['trace', props.id], queryFn: () => data(api.GET('/api/v1/runs/{run_id}/trace', path)) })

const spans = ref<Span[]>([])
const moved = ref<Run | null>(null)
const run = computed(() => moved.value ?? page.data.value?.run ?? null)
const over = computed(() => ['succeeded', 'failed', 'cancelled', 'set aside'].includes(run.value?.state ?? ''))
watch(trace.data, (now) => now && (spans.value = now.spans), { immediate: true })

// What models are just writing: told in pieces; another attempt begins anew, and the record takes their place.
interface Piece {
  path: string
  attempt: number
  at: number
  text: string
}
const writing = ref<Record<string, Piece>>({})
function write(piece: Piece): void {
  const before = writing.value[piece.path]
  const text = before?.attempt === piece.attempt ? before.text.slice(0, piece.at) : ''
  writing.value = { ...writing.value, [piece.path]: { ...piece, text: text + piece.text } }
}
const written = (path: string) => (writing.value = Object.fromEntries(Object.entries(writing.value).filter(([key]) => key !== path)))

const now = ref(Date.now())
const clock = window.setInterval(() => (now.value = Date.now()), 500)
onScopeDispose(() => window.clearInterval(clock))
const stop = useStream(`/api/v1/runs/${props.id}/stream`, {
  span: (given) => {
    const span = given as Span
    if (span.state !== 'running' && writing.value[span.path]) written(span.path)
    const at = spans.value.findIndex((s) => s.path === span.path)
    if (at < 0) spans.value = [...spans.value, span]
    else spans.value = spans.value.with(at, span)
  },
  piece: (given) => write(given as Piece),
  run: (given) => {
    moved.value = given as Run
    if (over.value) {
      stop()
      void page.refetch()
    } else if (moved.value.state === 'waiting' || moved.value.state === 'queued') void page.refetch()
  },
})

const items = ref<Record<string, number>>({})
const chosen = computed(() => String(route.query.step ?? ''))
const worst = computed(
  () => spans.value.find((s) => s.state === 'failed' && s.attempts.length) ?? spans.value.find((s) => s.attempts.length > 1) ?? null,
)
const span = computed(() => spans.value.find((s) => s.path === chosen.value) ?? (chosen.value ? null : worst.value))
const line = computed<Line | null>(() => trace.data.value?.script.find((l) => l.trace === span.value?.line && l.kind !== 'arm') ?? null)
const inner = computed(() => (span.value ? spans.value.filter((s) => s.path.startsWith(`${span.value?.path}/`)) : []))
const choose = (one: Span) => void router.replace({ query: { step: one.path } })

const from = computed(() => Date.parse(run.value?.started_at ?? run.value?.created_at ?? new Date().toISOString()))
const to = computed(() => (run.value?.ended_at ? Date.parse(run.value.ended_at) : now.value))
const seconds = computed(() => (run.value?.started_at ? (to.value - from.value) / 1000 : null))
// Items of long lists are told when they are looked at.
watch(items, async (now) => {
  for (const [owner, index] of Object.entries(now)) {
    const under = `${owner}[${index}]`
    if (spans.value.some((s) => s.path === under || s.path.startsWith(`${under}.`))) continue
    const told = await data(api.GET('/api/v1/runs/{run_id}/trace', { params: { path: path.params.path, query: { under } } }))
    const known = new Set(spans.value.map((s) => s.path))
    spans.value = [...spans.value, ...told.spans.filter((s) => !known.has(s.path))]
  }
})
const place = (one: Run) => ({ start: 'from the start', failure: 'from where it failed' })[one.origin_how ?? ''] ?? 'from a step'
const related = computed(() => [
  ...(page.data.value?.children ?? []).map((run) => ({ run, word: 'started' })),
  ...(page.data.value?.again ?? []).map((run) => ({ run, word: `again, ${place(run)}` })),
])
</script>

<template>
  <ProblemNote v-if="page.error.value" :problem="page.error.value" />
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
            >; again, {{ place(run) }}, of <RouterLink :to="`/runs/${run.origin_id}`">an earlier run</RouterLink></template
          >
          <template v-if="run.parent_id">; started by <RouterLink :to="`/runs/${run.parent_id}`">another run</RouterLink></template>
        </p>
      </div>
      <dl>
        <div>
          <dt>Took</dt>
          <dd>{{ duration(seconds) }}</dd>
        </div>
        <div>
          <dt>Steps</dt>
          <dd>{{ over ? run.steps : spans.filter((s) => s.kind === 'step').length }}</dd>
        </div>
        <div>
          <dt>Attempts</dt>
          <dd>{{ over ? run.attempts : spans.reduce((sum, s) => sum + s.attempts.length, 0) }}</dd>
        </div>
        <div>
          <dt>Tokens</dt>
          <dd>{{ run.tokens_in + run.tokens_out }}</dd>
        </div>
        <div>
          <dt>Money</dt>
          <dd>{{ money(run.money, run.unpriced) }}</dd>
        </div>
      </dl>
    </div>
    <RunActions :run="run" :over="over" :span="span" />
    <p v-if="run.note" class="why">{{ run.note }}</p>
    <p v-if="run.mended_by">Mended later by <RouterLink :to="`/runs/${run.mended_by}`">the run that did it again</RouterLink>.</p>
    <div v-if="run.error" class="cause" role="alert">
      <strong>{{ run.error.kind }}</strong> {{ run.error.message }}
      <div v-if="run.error.fix">What to do: {{ run.error.fix }}</div>
    </div>
    <p v-if="!over && page.data.value.why" class="why">
      {{ page.data.value.why }} <RouterLink v-if="page.data.value.questions" to="/tray">Answer it in the tray</RouterLink>
    </p>

    <div v-if="!over && Object.keys(writing).length" class="writing" role="status" aria-label="Being written">
      <p v-for="(one, path) in writing" :key="path">
        <span class="quiet mono">{{ path }}</span> {{ one.text }}
      </p>
    </div>
    <ProblemNote v-if="trace.error.value" :problem="trace.error.value" />
    <RunScript
      v-if="trace.data.value"
      v-model:items="items"
      :lines="trace.data.value.script"
      :spans="spans"
      :from="from"
      :to="to"
      :chosen="span?.path ?? ''"
      @choose="choose" />
    <div class="below">
      <SpanRecord v-if="span && line" :span="span" :line="line" :inner="inner" :run="id" />
      <p v-else class="quiet">Choose a step to see what it was given, what it did and what it gave.</p>
      <section aria-label="Event and result">
        <template v-if="related.length">
          <h2>Other runs</h2>
          <p v-for="one in related" :key="one.run.id" class="related">
            <StateMark :state="one.run.state" /> <RouterLink :to="`/runs/${one.run.id}`">{{ one.run.workflow }}</RouterLink>
            <span class="quiet">{{ one.word }}, {{ moment(one.run.created_at) }}</span>
          </p>
        </template>
        <template v-if="page.data.value.result !== null && page.data.value.result !== undefined">
          <h2>Result</h2>
          <ValueView :value="page.data.value.result" />
        </template>
        <h2>Event</h2>
        <p class="quiet">
          {{ page.data.value.event.type }} from <span class="mono">{{ page.data.value.event.source }}</span>, id
          <span class="mono">{{ page.data.value.event.key }}</span>
        </p>
        <ValueView :value="page.data.value.event.data" />
        <p v-for="one in page.data.value.event.large" :key="one.id" class="quiet">
          Long parts are cut here. <a :href="`/api/v1/artifacts/${one.id}`" target="_blank">The whole</a>, {{ Math.round(one.bytes / 1024) }} KB
        </p>
      </section>
    </div>
  </template>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 2rem;
  align-items: flex-start;
  margin-bottom: 1rem;
}
.head p {
  margin: 0;
}
dl {
  display: flex;
  flex-wrap: wrap;
  gap: 0.25rem 1.5rem;
  margin: 0 0 0 auto;
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
}
.related {
  margin: 0;
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
.below {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 2rem;
  margin-top: 1.5rem;
}
.below h2 {
  margin: 1rem 0 0.3rem;
}
.below section > h2:first-child {
  margin-top: 0;
}
.below section > pre {
  background: var(--bs-tertiary-bg);
  padding: 0.5rem 0.7rem;
  max-height: 24rem;
  overflow: auto;
}
@media (max-width: 900px) {
  .below {
    grid-template-columns: minmax(0, 1fr);
  }
  dl {
    margin-left: 0;
  }
}
</style>
