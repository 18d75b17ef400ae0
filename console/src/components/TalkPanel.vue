<script setup lang="ts">
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, nextTick, ref, useTemplateRef } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { money, shown } from '../lib/format'
import { webAddress } from '../lib/web'
import ProblemNote from './ProblemNote.vue'

type Talked = Schemas['TalkedOut']
interface Turn {
  said: string
  before: Talked['messages']
  answer: Talked | null
}

const props = defineProps<{ text: string; agents: string[]; sample: unknown; kept: string[] }>()
const chosen = ref('')
const agent = computed(() => (props.agents.includes(chosen.value) ? chosen.value : (props.agents[0] ?? '')))
const event = ref('')
const events = computed(() => [{ value: '', text: 'no event' }, ...props.kept.map((one) => ({ value: one, text: `the event ${one}` }))])
const turns = ref<Turn[]>([])
const say = ref('')
const busy = ref(false)
const problem = ref<Error | null>(null)
const end = useTemplateRef<HTMLElement>('end')
const messages = computed(() => turns.value.at(-1)?.answer?.messages ?? [])
const calls = (answer: Talked) => answer.spans.filter((s) => s.kind === 'call')
const name = (path: string) => path.slice(path.lastIndexOf('/') + 1).replace(/\[\d+\].*$/, '')

async function ask(said: string, before: Talked['messages']): Promise<void> {
  problem.value = null
  busy.value = true
  const turn: Turn = { said, before, answer: null }
  turns.value = [...turns.value, turn]
  try {
    const answer = await data(
      api.POST('/api/v1/workflows/talk', {
        body: { text: props.text, say: said, messages: before, step: agent.value, input: props.sample, sample: event.value },
      }),
    )
    turns.value = turns.value.map((one) => (one === turn || (one.said === said && !one.answer) ? { ...one, answer } : one))
  } catch (error) {
    problem.value = error as Error
    turns.value = turns.value.slice(0, -1)
    say.value = said
  } finally {
    busy.value = false
    void nextTick(() => end.value?.scrollIntoView({ block: 'nearest' }))
  }
}
function send(): void {
  const said = say.value.trim()
  if (!said || busy.value) return
  say.value = ''
  void ask(said, messages.value)
}
function retry(): void {
  const last = turns.value.at(-1)
  if (!last || busy.value) return
  turns.value = turns.value.slice(0, -1)
  void ask(last.said, last.before)
}
</script>

<template>
  <section aria-label="Talk">
    <div class="head">
      <h2>Talk</h2>
      <BFormSelect
        v-if="agents.length > 1"
        :model-value="agent"
        :options="agents"
        size="sm"
        class="which"
        aria-label="Which agent"
        @update:model-value="chosen = String($event)" />
      <BFormSelect v-if="kept.length" v-model="event" :options="events" size="sm" class="which" aria-label="About which event" />
      <span class="quiet">with the agent {{ agents.length > 1 ? '' : agent }} of this draft. Its tools are really called; nothing is kept.</span>
      <span v-if="turns.length" class="acts"
        ><BButton size="sm" variant="link" :disabled="busy" @click="retry">Retry the last</BButton
        ><BButton size="sm" variant="link" :disabled="busy" @click="turns = []">Clear</BButton></span
      >
    </div>
    <div v-for="(turn, index) in turns" :key="index" class="turn">
      <p class="said"><span class="quiet">you</span> {{ turn.said }}</p>
      <p v-if="!turn.answer" class="quiet">thinking…</p>
      <template v-else>
        <div v-for="call in calls(turn.answer)" :key="call.path" class="call">
          <p class="quiet">
            {{ call.state === 'failed' ? '✗' : '✓' }}
            <span class="mono">{{ name(call.path) }} {{ JSON.stringify(call.attempts.at(-1)?.detail?.arguments ?? call.input) }}</span>
          </p>
          <p v-if="call.error" class="fault">
            <strong>{{ call.error.kind }}</strong> {{ call.error.message }}<template v-if="call.error.fix"> {{ call.error.fix }}</template>
          </p>
          <details v-else-if="call.output !== null && call.output !== undefined">
            <summary class="quiet">What it gave</summary>
            <pre>{{ shown(call.output) }}</pre>
          </details>
        </div>
        <p v-if="turn.answer.error" class="fault">
          <strong>{{ turn.answer.error.kind }}</strong> {{ turn.answer.error.message }}
        </p>
        <p v-else-if="turn.answer.waits" class="waits">It would rest at {{ turn.answer.waits }}.</p>
        <p v-else class="answer">{{ turn.answer.text }}</p>
        <ul v-if="turn.answer.sources?.length" class="quiet" aria-label="Sources">
          <li v-for="source in turn.answer.sources" :key="source.url">
            <a v-if="webAddress(source.url)" :href="webAddress(source.url)" target="_blank" rel="noreferrer">{{
              source.title || source.url
            }}</a><template v-else>{{ source.title || source.url }}</template>
          </li>
        </ul>
        <p v-if="turn.answer.why" class="waits">{{ turn.answer.why }}</p>
        <p class="quiet sum">{{ turn.answer.tokens }} tokens, money {{ turn.answer.money === null ? 'unknown' : money(turn.answer.money) }}</p>
      </template>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <form class="say" @submit.prevent="send">
      <BFormInput v-model="say" placeholder="Say something" aria-label="Say something" :disabled="busy" />
      <BButton type="submit" variant="primary" :disabled="busy || !say.trim()">Send</BButton>
    </form>
    <div ref="end" />
  </section>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.25rem 0.75rem;
  align-items: baseline;
}
.head h2 {
  margin: 0;
}
.acts {
  margin-left: auto;
}
.which {
  width: auto;
}
.turn {
  border-top: 1px solid var(--relay-line);
  padding: 0.5rem 0;
}
.turn p {
  margin: 0.15rem 0;
  overflow-wrap: anywhere;
}
.answer {
  white-space: pre-wrap;
}
.waits {
  color: var(--relay-waiting);
}
.fault {
  border-left: 3px solid var(--relay-failed);
  padding-left: 0.75rem;
}
.sum,
.call {
  font-size: 0.9rem;
}
.say {
  display: flex;
  gap: 0.5rem;
  margin-top: 0.5rem;
}
</style>
