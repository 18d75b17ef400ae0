<script setup lang="ts">
import { webAddress } from '../lib/web'
import { computed, ref } from 'vue'
import { api, data, type Span } from '../api/client'
import { money, shown } from '../lib/format'
import { between, duration } from '../lib/times'
import StateMark from '../components/StateMark.vue'

interface Called {
  id: string
  name: string
  text: string
}
interface Said {
  text: string
  reasoning: string
  calls: Called[]
}
interface Given {
  text: string
  why?: string
  ended: string
  unkept?: { sentence: string; tool: string }[]
  sources: { url: string; title?: string }[]
}

const props = defineProps<{ run: string; span: Span; inner: Span[]; cut: number; at: string }>()
const turns = computed(() => props.inner.filter((s) => s.kind === 'turn' && s.path.lastIndexOf('/') === props.span.path.length))
const callsOf = (turn: Span) => props.inner.filter((s) => s.kind === 'call' && s.path.startsWith(`${turn.path}/`))
const said = (turn: Span) => (turn.output ?? null) as Said | null
const given = computed(() => (props.span.output ?? null) as Given | null)
const took = (some: Span[]) => some.reduce((sum, s) => sum + s.attempts.reduce((all, a) => all + (between(a.started, a.ended) ?? 0), 0), 0)
const calls = computed(() => turns.value.flatMap(callsOf))
const sums = computed(() =>
  [
    { what: 'Turns of the model', some: turns.value },
    { what: 'Calls of tools', some: calls.value },
  ].map(({ what, some }) => ({
    what,
    count: some.length,
    failed: some.filter((s) => s.state === 'failed').length,
    tokens: some.reduce((n, s) => n + s.tokens, 0),
    spent: some.reduce((n, s) => n + s.money, 0),
    unpriced: some.reduce((n, s) => n + s.unpriced, 0),
    seconds: took(some),
  })),
)
const numberOf = (turn: Span) => Number(/\[(\d+)\]$/.exec(turn.path)?.[1] ?? 0) + 1
const name = (call: Span) => call.path.slice(call.path.lastIndexOf('/') + 1).replace(/\[\d+\].*$/, '')
const argumentsOf = (call: Span) => call.attempts.at(-1)?.detail?.arguments ?? call.input

const sent = ref<Record<string, unknown>>({})
async function load(turn: Span, event: Event): Promise<void> {
  if (!(event.target as HTMLDetailsElement).open || sent.value[turn.path]) return
  const found = await data(api.GET('/api/v1/runs/{run_id}/messages', { params: { path: { run_id: props.run }, query: { turn: turn.path } } }))
  sent.value = { ...sent.value, [turn.path]: found }
}
</script>

<template>
  <p v-if="given?.why" class="fault" role="status">{{ given.why }}</p>
  <p v-for="claim in given?.unkept" :key="claim.sentence" class="fault">
    It says “{{ claim.sentence }}”, and no call of <span class="mono">{{ claim.tool }}</span> succeeded.
  </p>
  <table class="table sums">
    <thead>
      <tr>
        <th><span class="visually-hidden">What</span></th>
        <th class="num">Count</th>
        <th class="num">Failed</th>
        <th class="num">Tokens</th>
        <th class="num">Money</th>
        <th class="num">Time</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in sums" :key="one.what">
        <td>{{ one.what }}</td>
        <td class="num">{{ one.count }}</td>
        <td class="num">{{ one.failed }}</td>
        <td class="num">{{ one.tokens }}</td>
        <td class="num">{{ money(one.spent, one.unpriced) }}</td>
        <td class="num">{{ duration(one.seconds) }}</td>
      </tr>
    </tbody>
  </table>
  <p v-if="cut" class="quiet">The last {{ inner.length }} turns and calls; {{ cut }} earlier ones stand in the journal.</p>
  <ol class="turns" aria-label="Turns">
    <li v-for="turn in turns" :key="turn.path">
      <h3>
        Turn {{ numberOf(turn) }}
        <span class="quiet"
          >{{ turn.tokens }} tokens, money {{ money(turn.money, turn.unpriced) }}, {{ duration(took([turn]))
          }}<template v-if="turn.attempts.length > 1">, {{ turn.attempts.length }} attempts</template></span
        >
      </h3>
      <p v-if="said(turn)?.reasoning" class="quiet reasoning">{{ said(turn)?.reasoning }}</p>
      <pre v-if="said(turn)?.text">{{ said(turn)?.text }}</pre>
      <p v-else-if="turn.error" class="fault">
        <strong>{{ turn.error.kind }}</strong> {{ turn.error.message }}
      </p>
      <div v-for="call in callsOf(turn)" :key="call.path" class="call">
        <p>
          <StateMark :state="call.state" bare /> <strong class="mono me-2">{{ name(call) }}</strong>
          <span class="mono">{{ JSON.stringify(argumentsOf(call)) }}</span> <span class="quiet">{{ duration(took([call])) }}</span>
        </p>
        <p v-if="call.state === 'waiting'" class="asks">
          Not done yet: it is done, with what stands here, when somebody says yes. <RouterLink to="/tray">Say it in the tray</RouterLink>
        </p>
        <p v-if="call.note" class="quiet">{{ call.note }}</p>
        <p v-if="call.error" class="fault">
          <strong>{{ call.error.kind }}</strong> {{ call.error.message }}
        </p>
        <details v-else-if="call.output !== null && call.output !== undefined">
          <summary>What it gave</summary>
          <pre>{{ shown(call.output) }}</pre>
        </details>
        <p v-for="id in call.runs" :key="id"><RouterLink :to="`/runs/${id}`">Its run</RouterLink></p>
      </div>
      <details @toggle="load(turn, $event)">
        <summary>Messages as they were sent</summary>
        <pre>{{ sent[turn.path] ? shown(sent[turn.path]) : 'loading…' }}</pre>
      </details>
    </li>
  </ol>
  <template v-if="given?.sources?.length">
    <h3>Sources</h3>
    <ul>
      <li v-for="source in given.sources" :key="source.url">
        <a v-if="webAddress(source.url)" :href="webAddress(source.url)" target="_blank" rel="noreferrer">{{ source.title ?? source.url }}</a><template
          v-else
          >{{ source.title ?? source.url }}</template
        >
      </li>
    </ul>
  </template>
</template>

<style scoped>
h3 {
  font-size: 0.95rem;
  margin: 1rem 0 0.3rem;
}
.sums {
  max-width: 36rem;
  margin: 0.5rem 0;
}
.turns {
  list-style: none;
  padding: 0;
  margin: 0;
}
.reasoning {
  margin: 0.2rem 0;
  font-style: italic;
}
.call {
  border-left: 2px solid var(--relay-line);
  padding-left: 0.75rem;
  margin: 0.4rem 0;
}
.call p {
  margin: 0;
  overflow-wrap: anywhere;
}
.asks {
  color: var(--relay-waiting);
}
.fault {
  border-left: 3px solid var(--relay-failed);
  padding-left: 0.75rem;
  margin: 0.5rem 0;
}
pre {
  background: var(--bs-tertiary-bg);
  padding: 0.5rem 0.7rem;
  max-height: 18rem;
  overflow: auto;
}
</style>
