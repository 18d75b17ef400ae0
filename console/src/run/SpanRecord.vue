<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, data } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import ValueView from '../components/ValueView.vue'
import { money, shown } from '../lib/format'
import { between, duration, moment } from '../lib/times'
import AgentRecord from './AgentRecord.vue'
import { curl, type Exchange, type Turn } from './exchange'
import type { Brief, Line } from './timeline'

const props = defineProps<{ span: Brief; line: Line; run: string; at: string }>()
const record = useQuery({
  queryKey: ['record', () => props.run, () => props.span.path, () => `${props.span.state} ${props.span.tried} ${props.span.ended ?? ''}`],
  queryFn: () => data(api.GET('/api/v1/runs/{run_id}/record', { params: { path: { run_id: props.run }, query: { path: props.span.path } } })),
  placeholderData: keepPreviousData,
  refetchInterval: () => (props.span.state === 'running' || props.span.state === 'waiting' ? 2000 : false),
})
const span = computed(() => (record.data.value?.span.path === props.span.path ? record.data.value.span : null))
const inner = computed(() => record.data.value?.inner ?? [])
const agent = computed(() => inner.value.some((s) => s.kind === 'turn'))
const chosen = ref(0)
watch(
  () => [span.value?.path, span.value?.attempts.length],
  () => (chosen.value = Math.max(0, (span.value?.attempts.length ?? 0) - 1)),
  { immediate: true },
)
const attempt = computed(() => span.value?.attempts[Math.min(chosen.value, span.value.attempts.length - 1)])
const turns = computed(() => (attempt.value?.detail?.turns as Turn[] | undefined) ?? [])
const exchange = computed(() => attempt.value?.detail?.exchange as Exchange | undefined)
const error = computed(() => attempt.value?.error ?? span.value?.error)
const waited = computed(() => between(span.value?.attempts[chosen.value - 1]?.ended, attempt.value?.started))
</script>

<template>
  <section class="record" aria-label="Record of the chosen step">
    <h2>{{ line.number }} {{ line.sentence }}</h2>
    <p class="quiet mono path">{{ props.span.path }}</p>
    <ProblemNote v-if="record.error.value" :problem="record.error.value" :again="() => record.refetch()" />
    <LoadingLines v-else-if="!span" />
    <template v-else>
      <ol v-if="span.attempts.length > 1" class="attempts" aria-label="Attempts">
        <li v-for="(one, index) in span.attempts" :key="one.number">
          <button type="button" :aria-pressed="index === chosen" :class="{ on: index === chosen }" @click="chosen = index">
            <StateMark :state="one.state" bare /> attempt {{ one.number }}, {{ duration(between(one.started, one.ended)) }}
            <span v-if="one.error">
              – <strong>{{ one.error.kind }}</strong> {{ one.error.message }}</span
            >
            <span v-else-if="one.note"> – {{ one.note }}</span>
          </button>
          <span v-if="span.attempts[index + 1]" class="quiet pause"
            >waited {{ duration(between(one.ended, span.attempts[index + 1]?.started)) }}</span
          >
        </li>
      </ol>
      <p v-if="attempt">
        <StateMark :state="attempt.state" />
        <span v-if="attempt.started" :title="attempt.started">
          began {{ moment(attempt.started) }}, took {{ duration(between(attempt.started, attempt.ended)) }}</span
        >
        <span v-if="waited !== null">, after waiting {{ duration(waited) }}</span>
      </p>
      <p v-else>
        <StateMark :state="span.state" /> <span v-if="span.started" :title="span.started">at {{ moment(span.started) }}</span>
      </p>

      <div v-if="error" class="fault" role="alert">
        <strong>{{ error.kind }}</strong> {{ error.message }}
        <div v-if="error.fix">What to do: {{ error.fix }}</div>
        <div v-if="attempt?.again_at" class="quiet">It was tried again at {{ moment(attempt.again_at) }}.</div>
      </div>
      <p v-if="attempt?.note" class="fault">{{ attempt.note }}</p>
      <p v-if="span.empty.length">
        Came out empty: <span class="mono">{{ span.empty.join(', ') }}</span>
      </p>

      <AgentRecord v-if="agent" :run="run" :span="span" :inner="inner" :cut="record.data.value?.cut ?? 0" :at="at" />
      <template v-for="(turn, index) in turns" :key="index">
        <h3>
          {{ turns.length > 1 ? `Turn ${index + 1}` : 'Messages' }} <span class="quiet">{{ turn.alias }}, {{ turn.model }}</span>
        </h3>
        <div v-for="(message, n) in turn.messages ?? []" :key="n" class="message">
          <span class="quiet">{{ message.role }}</span>
          <pre>{{ shown(message.content) }}</pre>
        </div>
        <div v-if="turn.reasoning" class="message">
          <span class="quiet">reasoning</span>
          <pre class="quiet">{{ turn.reasoning }}</pre>
        </div>
        <div v-if="turn.reply !== undefined" class="message reply">
          <span class="quiet">answer</span>
          <pre>{{ turn.reply }}</pre>
        </div>
        <p v-if="turn.usage" class="quiet">
          {{ turn.usage.input }} tokens read, {{ turn.usage.output }} written, money
          {{ turn.usage.money === null ? 'unknown' : money(turn.usage.money) }}
        </p>
        <details v-if="turn.exchange">
          <summary>Request and reply</summary>
          <pre>{{ shown(turn.exchange) }}</pre>
        </details>
      </template>

      <template v-if="exchange">
        <h3>Request</h3>
        <pre
          >{{ exchange.request.method }} {{ exchange.request.url }}
{{
            Object.entries(exchange.request.headers)
              .map(([k, v]) => `${k}: ${v}`)
              .join('\n')
          }}

{{ exchange.request.body }}</pre>
        <h3>Reply</h3>
        <pre v-if="exchange.response"
          >{{ exchange.response.status }}
{{
            Object.entries(exchange.response.headers)
              .map(([k, v]) => `${k}: ${v}`)
              .join('\n')
          }}

{{ exchange.response.body }}</pre>
        <p v-else class="quiet">None came.</p>
        <details>
          <summary>As a curl command</summary>
          <pre>{{ curl(exchange) }}</pre>
        </details>
      </template>

      <details v-if="agent">
        <summary>What it was set up with</summary>
        <ValueView :value="span.input" :name="`${line.step}-input`" />
      </details>
      <template v-else-if="span.input !== null && !turns.length">
        <h3>Input</h3>
        <ValueView :value="span.input" :name="`${line.step}-input`" />
      </template>
      <template v-if="span.output !== null && span.output !== undefined">
        <h3>Output</h3>
        <ValueView :value="span.output" :name="line.step" :expression="line.step" />
      </template>
      <p v-for="one in span.large" :key="one.id" class="quiet">
        Long parts are cut here.
        <a :href="`/api/v1/artifacts/${one.id}`" target="_blank">The whole {{ one.of === 'detail' ? 'request' : 'outcome' }}</a
        >, {{ Math.round(one.bytes / 1024) }} KB
      </p>
    </template>
  </section>
</template>

<style scoped>
.record {
  min-width: 0;
}
.path {
  overflow-wrap: anywhere;
}
h2 {
  margin-bottom: 0.1rem;
}
h3 {
  font-size: 0.95rem;
  margin: 1rem 0 0.3rem;
}
.attempts {
  list-style: none;
  padding: 0;
  margin: 0.5rem 0;
}
.attempts button {
  display: block;
  width: 100%;
  text-align: left;
  border: 1px solid var(--relay-line);
  background: none;
  color: inherit;
  border-radius: 0.25rem;
  padding: 0.2rem 0.6rem;
  overflow-wrap: anywhere;
}
.attempts .on {
  background: var(--bs-tertiary-bg);
  border-color: var(--bs-primary);
}
.pause {
  display: block;
  padding-left: 0.7rem;
  margin: 0.1rem 0;
  border-left: 3px dotted var(--relay-waiting);
}
.fault {
  border-left: 3px solid var(--relay-failed);
  padding-left: 0.75rem;
  margin: 0.5rem 0;
}
.message {
  display: grid;
  grid-template-columns: 5.5rem 1fr;
  gap: 0.5rem;
  padding: 0.3rem 0;
  border-top: 1px solid var(--relay-line);
}
.reply pre {
  font-weight: 550;
}
pre {
  background: var(--bs-tertiary-bg);
  padding: 0.5rem 0.7rem;
  max-height: 22rem;
  overflow: auto;
}
.message pre {
  background: none;
  padding: 0;
}
</style>
