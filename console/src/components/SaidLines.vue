<script setup lang="ts">
import { RouterLink } from 'vue-router'
import type { Schemas } from '../api/client'
import { shown } from '../lib/format'
import { moment } from '../lib/times'

/** What was said, line by line; `settle` says of one that is unknown whether it arrived, and `judge` of an answer whether
 * it was good, where that can be said. */
type Message = Schemas['MessageOut']
defineProps<{
  lines: Message[]
  settle?: (line: Message, arrived: boolean) => void
  judge?: (line: Message, good: boolean | null) => void
}>()
/** The words of a message; of a call of a tool what it was called with. */
function words(message: Message): string {
  const { content, text } = message.message as { content?: unknown; text?: unknown }
  const said = content ?? text
  if (typeof said === 'string') return said
  if (!Array.isArray(said)) return said === undefined || said === null ? '' : shown(said)
  return said.map((part: { text?: string; type?: string }) => part.text ?? `(${part.type ?? 'something'})`).join('\n')
}
/** What a message calls, each as it reads in a line. */
const calls = (message: Message) =>
  ((message.message as { tool_calls?: { function?: { name?: string; arguments?: string } }[] }).tool_calls ?? []).map(
    (one) => `${one.function?.name ?? 'a tool'} ${one.function?.arguments ?? ''}`,
  )
const WHO: Record<string, string> = { user: 'they', assistant: 'the agent', tool: 'a tool', system: 'brief' }
const STATES: Record<string, string> = { waiting: 'on its way', refused: 'not sent', unknown: 'nobody knows whether it arrived' }
interface Part {
  what?: string
  fault?: string
  file?: { file: string; name: string }
}
const parts = (line: Message) => (line.parts ?? []) as Part[]
</script>

<template>
  <ol class="said" aria-label="What was said">
    <li v-for="one in lines" :key="one.seq" :class="one.role">
      <p class="quiet who">
        {{ one.by || (WHO[one.role] ?? one.role) }}, {{ moment(one.at) }}
        <RouterLink v-if="one.run_id && one.role === 'assistant'" :to="`/runs/${one.run_id}`">its run</RouterLink>
        <span v-if="one.good !== null && one.good !== undefined" class="state" :class="{ refused: !one.good }">{{
          one.good ? 'found good' : 'found bad'
        }}</span>
        <span v-if="one.state && STATES[one.state]" class="state" :class="one.state">{{ STATES[one.state] }}</span>
      </p>
      <details v-if="one.role === 'tool'">
        <summary>What it gave</summary>
        <pre tabindex="0">{{ words(one) }}</pre>
      </details>
      <p v-else-if="words(one)" class="words">{{ words(one) }}</p>
      <p v-for="(part, at) in parts(one)" :key="`p${at}`" class="quiet words">
        <a v-if="part.file" :href="`/api/v1/files/${part.file.file}/content`">{{ part.file.name }}</a>
        <template v-else>{{ part.fault ?? part.what }}</template>
      </p>
      <p v-if="one.buttons?.length" class="quiet words">Answers: {{ one.buttons.join(', ') }}</p>
      <p v-for="(call, at) in calls(one)" :key="at" class="mono call">{{ call }}</p>
      <p v-for="claim in one.unkept" :key="claim.sentence" class="words unkept">
        Not so: no call of <span class="mono">{{ claim.tool }}</span> succeeded, and it says “{{ claim.sentence }}”.
      </p>
      <p v-if="one.why" class="quiet words">{{ one.why }}</p>
      <p v-if="judge && one.role === 'assistant' && one.run_id && !one.by" class="verdict" role="group" aria-label="Was this answer good?">
        <button
          v-for="good in [true, false]"
          :key="String(good)"
          type="button"
          class="btn btn-link btn-sm p-0"
          :aria-pressed="one.good === good"
          @click="judge(one, one.good === good ? null : good)">
          {{ good ? 'good' : 'bad' }}
        </button>
      </p>
      <p v-if="one.state === 'unknown' && settle" class="settle">
        <button type="button" class="btn btn-sm btn-outline-primary" @click="settle(one, true)">It arrived</button>
        <button type="button" class="btn btn-sm btn-outline-primary" @click="settle(one, false)">Send it again</button>
        <span class="quiet">Nothing more is sent in this conversation until this is known.</span>
      </p>
    </li>
  </ol>
</template>

<style scoped>
.said {
  list-style: none;
  padding: 0;
  max-width: 50rem;
}
.said li {
  margin-bottom: 0.8rem;
  padding-left: 0.8rem;
  border-left: 3px solid var(--relay-line);
}
.said .user {
  border-left-color: var(--relay-running);
}
.said .assistant {
  border-left-color: var(--relay-succeeded);
}
.who {
  margin: 0;
  font-size: 0.85rem;
}
.words {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.state {
  color: var(--relay-waiting);
  margin-left: 0.5rem;
}
.unkept,
.state.refused,
.state.unknown {
  color: var(--relay-failed);
}
.verdict {
  display: flex;
  gap: 0.8rem;
  margin: 0;
}
.verdict [aria-pressed='true'] {
  font-weight: 700;
}
.settle {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: center;
  margin: 0.4rem 0 0;
}
.call {
  margin: 0;
  overflow-wrap: anywhere;
}
pre {
  max-height: 16rem;
  overflow: auto;
}
</style>
