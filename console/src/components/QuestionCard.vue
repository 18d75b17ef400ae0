<script setup lang="ts">
import { BButton, BFormCheckbox, BFormInput, BFormTextarea } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { Problem, type Schemas } from '../api/client'
import { shown } from '../lib/format'
import { moment } from '../lib/times'
import { isPlain } from '../lib/keys'
import { later } from '../lib/toasts'
import type { Schema } from '../workflow/fields'
import DataForm from './DataForm.vue'
import HandedOver from './HandedOver.vue'
import ProblemNote from './ProblemNote.vue'
import ValueView from './ValueView.vue'

type Question = Schemas['QuestionOut']
export interface Given {
  choice: string | null
  data: unknown
  text: string | null
  alike: boolean
}

const props = defineProps<{ question: Question; open: boolean; send: (given: Given, leaving?: boolean) => Promise<void> }>()
const form = computed(() => props.question.form as Schema | null)
const given = ref<unknown>(form.value ? { ...defaults(form.value), ...((form.value.default ?? {}) as object) } : undefined)
const wrong = ref('')
const happened = ref('')
const remark = ref('')
const alike = ref(false)
const busy = ref(false)
const leaving = ref('')
const problem = ref<Error | null>(null)

/** What the fields are when nobody writes in them. */
function defaults(schema: Schema): Record<string, unknown> {
  const found = Object.entries(schema.properties ?? {}).map(([name, one]) => [name, one.default ?? (one.type === 'boolean' ? false : undefined)])
  return Object.fromEntries(found.filter(([, value]) => value !== undefined)) as Record<string, unknown>
}
/** What is sent along; a choice other than the first may be taken without it. Throws `Problem`. */
function data(choice: string | null): unknown {
  if (!form.value) return happened.value.trim() ? JSON.parse(happened.value) : null
  if (!wrong.value) return given.value ?? null
  if (choice !== null && choice !== props.question.choices?.[0]) return null
  throw new Problem(0, wrong.value, '', 'Fill it in')
}

/** By a key it is sent in five seconds, so that a slip of the hand can be taken back. */
async function answer(choice: string | null, byKey = false): Promise<void> {
  problem.value = null
  busy.value = true
  try {
    const given = { choice, data: data(choice), text: remark.value || null, alike: alike.value }
    if (byKey) {
      leaving.value = choice ?? ''
      await later(`Answered: ${choice}.`, (leaving) => props.send(given, leaving))
      leaving.value = ''
    } else await props.send(given)
  } catch (error) {
    problem.value = error instanceof SyntaxError ? new Problem(0, 'This is not JSON', error.message, 'Correct the data') : (error as Error)
  } finally {
    busy.value = false
  }
}

/** A conversation that was handed over goes back, with a word for the workflow. */
async function back(word: string): Promise<void> {
  remark.value = word
  await answer(null)
}

function key(event: KeyboardEvent): void {
  const choices = props.question.choices ?? []
  const choice = choices[Number(event.key) - 1]
  if (choice === undefined || busy.value || !isPlain(event) || event.target !== event.currentTarget) return
  event.preventDefault()
  void answer(choice, true)
}
</script>

<template>
  <article :tabindex="open ? 0 : undefined" :aria-label="question.text" @keydown="key">
    <p class="quiet about">
      <RouterLink v-if="question.run_id" :to="`/runs/${question.run_id}`">{{ question.workflow }}</RouterLink><template v-else>{{
        question.workflow
      }}</template
      ><template v-if="question.subject">, about {{ question.subject }}</template
      >, <span :title="question.created_at">asked {{ moment(question.created_at) }}</span
      ><template v-if="question.expires_at && open"
        >, <span class="until" :title="question.expires_at">until {{ moment(question.expires_at) }}</span></template
      >
    </p>
    <p class="text">{{ question.text }}</p>
    <details v-if="question.input !== null && question.input !== undefined">
      <summary>The call as a whole</summary>
      <ValueView :value="question.input" />
    </details>
    <p v-if="leaving" class="quiet">{{ leaving }}; it is sent in a moment.</p>
    <HandedOver
      v-else-if="open && question.handed_over"
      :question="question.id"
      :conversation="question.conversation ?? ''"
      :busy="busy"
      @back="back" />
    <template v-else-if="open">
      <form v-if="form" class="fields" @submit.prevent="answer(null)">
        <DataForm v-model="given" v-model:wrong="wrong" :schema="form" word="What is asked for" />
        <BButton v-if="!question.choices" type="submit" variant="primary" :disabled="busy">Answer</BButton>
      </form>
      <details v-else-if="question.choices?.includes('it happened')">
        <summary>What it gave, if it happened</summary>
        <BFormTextarea v-model="happened" rows="3" class="mono" placeholder="JSON, or nothing" aria-label="What it gave" />
      </details>
      <form v-if="question.conversation && !question.choices && !form" class="choices" @submit.prevent="answer(null)">
        <BFormInput v-model="remark" size="sm" class="remark" placeholder="what they would say" aria-label="The answer" />
        <BButton type="submit" variant="outline-primary" size="sm" :disabled="busy || !remark.trim()">Answer for them</BButton>
      </form>
      <div v-if="question.choices" class="choices">
        <BButton v-for="(choice, index) in question.choices" :key="choice" variant="outline-primary" :disabled="busy" @click="answer(choice)"
          ><kbd class="wide-only">{{ index + 1 }}</kbd> {{ choice }}</BButton
        >
        <BFormInput v-model="remark" size="sm" class="remark" placeholder="a remark, if you like" aria-label="Remark" />
      </div>
      <BFormCheckbox v-if="question.alike > 1" v-model="alike">Answer all {{ question.alike }} questions of this kind together</BFormCheckbox>
      <p v-if="question.link" class="quiet">
        Also to be answered at <a :href="question.link" class="mono">{{ question.link }}</a>
      </p>
    </template>
    <p v-else>
      {{ question.state
      }}<template v-if="question.answered_by">
        by {{ question.answered_by }}, {{ moment(question.answered_at) }}:
        <strong>{{ (question.answer as Given | null)?.choice ?? shown((question.answer as Given | null)?.data) }}</strong>
        {{ (question.answer as Given | null)?.text ?? '' }}</template
      >
    </p>
    <ProblemNote v-if="problem" :problem="problem" />
  </article>
</template>

<style scoped>
article {
  border: 1px solid var(--relay-line);
  border-left: 3px solid var(--relay-waiting);
  border-radius: 0.25rem;
  padding: 0.75rem 1rem;
  margin-bottom: 0.9rem;
  overflow-wrap: anywhere;
}
.about {
  margin: 0;
  font-size: 0.9rem;
}
.text {
  font-size: 1.05rem;
  margin: 0.2rem 0 0.6rem;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.until {
  color: var(--relay-waiting);
}
.choices {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: center;
  margin: 0.5rem 0;
}
.remark {
  max-width: 20rem;
}
.fields {
  display: grid;
  gap: 0.6rem;
  max-width: 32rem;
  margin-bottom: 0.6rem;
}
.fields .btn {
  justify-self: start;
}
kbd {
  background: var(--bs-tertiary-bg);
  color: var(--relay-quiet);
}
pre {
  background: var(--bs-tertiary-bg);
  padding: 0.5rem 0.7rem;
  max-height: 16rem;
  overflow: auto;
}
</style>
