<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, data } from '../api/client'
import { pathOf } from '../edit/source'
import { addItem, removeKey, setValue } from '../edit/values'
import { removeSteps } from '../edit/steps'
import { every } from '../lib/lists'
import type { Part } from './data'
import type { Draft } from './draft'
import ChannelForm from './ChannelForm.vue'
import PageTry from './PageTry.vue'
import FieldRow from './FieldRow.vue'
import { fieldsOf, type Schema } from './fields'
import type { Language } from './language'
import type { Row } from './rows'

/** What starts a workflow: its kind, the fields of that, and how its event becomes the input. */
const props = defineProps<{ draft: Draft; row: Row; language: Language }>()
const emit = defineEmits<{ chosen: [path: string] }>()
const kinds = useQuery({
  queryKey: ['trigger-kinds'],
  staleTime: Infinity,
  queryFn: () => every((query) => data(api.GET('/api/v1/trigger-kinds', { params: { query } }))),
})
const path = computed(() => pathOf(props.row.path))
const real = computed(() => path.value.length === 2)
const trigger = computed(() => (real.value ? ((props.draft.source.value?.value(path.value) ?? {}) as Record<string, unknown>) : {}))
const kind = computed(() => Object.keys(trigger.value).find((key) => kinds.data.value?.some((one) => one.name === key)) ?? '')
const schema = computed(() => (kinds.data.value?.find((one) => one.name === kind.value)?.input ?? {}) as Schema)
const talk = computed(() =>
  kind.value === 'conversation' ? (trigger.value.conversation as { channel?: string; with?: Record<string, unknown> }) : null,
)
const channel = computed(() => talk.value?.channel ?? 'page')
/** What is of a page alone is not asked of another channel, and the other way round. */
const OF_A_PAGE = new Set(['title', 'colour', 'picture', 'greeting', 'suggestions', 'pace', 'open_to', 'password', 'sites'])
const fields = computed(() =>
  fieldsOf(schema.value, schema.value).filter(
    (one) => !talk.value || (one.name !== 'with' && (channel.value === 'page' || !OF_A_PAGE.has(one.name) || one.name in talk.value)),
  ),
)
const inputs = computed(() => Object.keys((props.draft.source.value?.value(['input', 'properties']) ?? {}) as object))
const mapping = computed(() => (trigger.value.input ?? {}) as Record<string, unknown>)
const event: Part[] = ['event.data', 'event.headers', 'event.query', 'event.time', 'event.type', 'event.id'].map((one) => ({
  path: one.split('.'),
  from: 'the event',
  value: undefined,
  list: false,
}))
const parts = computed<Part[]>(() => [
  ...event,
  ...inputs.value.map((name) => ({ path: ['event', 'data', name], from: 'the event', value: undefined, list: false })),
])
const BEGUN: Record<string, unknown> = { schedule: { cron: '0 6 * * *' }, event: { type: 'something.happened' } }
function begun(name: string): unknown {
  const own = String(props.draft.source.value?.value(['workflow']) ?? 'workflow')
  if (name === 'conversation') return { path: own, greeting: 'Good day! What would you like to know?' }
  return name === 'webhook' ? { path: own, verify: { scheme: 'none' } } : (BEGUN[name] ?? {})
}
function choose(name: string): void {
  if (!real.value) {
    const count = ((props.draft.source.value?.value(['triggers']) ?? []) as unknown[]).length
    if (props.draft.edit((source) => addItem(source, ['triggers'], { trigger: name, [name]: begun(name) }))) emit('chosen', `triggers.${count}`)
    return
  }
  const { trigger: called, input } = trigger.value
  props.draft.edit((source) => setValue(source, path.value, { trigger: called, [name]: begun(name), ...(input ? { input } : {}) }))
}
const put = (at: (string | number)[], value: unknown) => props.draft.edit((source) => setValue(source, [...path.value, ...at], value))
const clear = (at: (string | number)[]) => props.draft.edit((source) => removeKey(source, [...path.value, ...at]))
function remove(): void {
  if (
    props.draft.edit((source) =>
      path.value[1] === 0 && (source.value(['triggers']) as unknown[]).length === 1
        ? removeKey(source, ['triggers'])
        : removeSteps(source, [path.value]),
    )
  )
    emit('chosen', 'input')
}
const called = {
  name: 'trigger',
  title: 'Name',
  about: 'By which runs and events tell of it.',
  required: true,
  widget: 'text' as const,
  schema: {},
  choices: [],
}
const field = (name: string) => ({ name, title: name, about: '', required: false, widget: 'any' as const, schema: {}, choices: [] })
</script>

<template>
  <label class="d-block mb-2">
    {{ real ? 'It starts by' : 'Let it start by' }}
    <select
      class="form-select form-select-sm w-auto d-inline-block"
      :value="kind"
      aria-label="What starts it"
      @change="choose(($event.target as HTMLSelectElement).value)">
      <option value="" disabled>{{ real ? 'choose' : 'a person or a client alone' }}</option>
      <option v-for="one in kinds.data.value" :key="one.name" :value="one.name">{{ one.name.replace(/_/g, ' ') }}</option>
    </select>
  </label>
  <template v-if="real">
    <FieldRow :field="called" :value="trigger.trigger" :parts="[]" :known="{}" @change="(value) => put(['trigger'], value)" @clear="() => {}" />
    <PageTry v-if="talk && channel === 'page'" :workflow="String(draft.source.value?.value(['workflow']) ?? '')" :trigger="String(trigger.trigger)" />
    <FieldRow
      v-for="one in fields"
      :key="`${row.path} ${one.name}`"
      :field="one"
      :value="(trigger[kind] as Record<string, unknown> | undefined)?.[one.name]"
      :parts="[]"
      :known="language.known.value"
      @change="(value) => put([kind, one.name], value)"
      @clear="clear([kind, one.name])" />
    <ChannelForm
      v-if="talk && channel !== 'page'"
      :channel="channel"
      :given="talk.with ?? {}"
      :known="language.known.value"
      @change="(given) => put(['conversation', 'with'], given)" />
    <template v-if="inputs.length">
      <h4>How its event becomes what the workflow is given</h4>
      <p class="quiet">Left empty, the event’s own data are the input.</p>
      <FieldRow
        v-for="name in inputs"
        :key="`${row.path} input ${name}`"
        :field="field(name)"
        :value="mapping[name]"
        :parts="parts"
        :known="language.known.value"
        @change="(value) => put(['input', name], value)"
        @clear="clear(['input', name])" />
    </template>
    <button type="button" class="btn btn-link btn-sm text-danger p-0" @click="remove">Let it start this way no more</button>
  </template>
</template>

<style scoped>
h4 {
  font-size: 1rem;
}
</style>
