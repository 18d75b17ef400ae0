<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useAct } from '../lib/act'
import { every } from '../lib/lists'
import type { Schema } from '../workflow/fields'
import ProblemNote from './ProblemNote.vue'
import ProviderLook from './ProviderLook.vue'
import SchemaForm from './SchemaForm.vue'

/** A credential to be stored, new or in the place of one whose secrets stay as they are where none are given. */
const props = defineProps<{ of?: Schemas['CredentialOut'] }>()
const emit = defineEmits<{ done: [stored: Schemas['CredentialOut']]; leave: [] }>()
const { data: kinds } = useQuery({
  queryKey: ['credential-kinds'],
  queryFn: () => every((query) => data(api.GET('/api/v1/credential-kinds', { params: { query } }))),
  staleTime: Infinity,
})
const name = ref(props.of?.name ?? '')
const kind = ref(props.of?.kind ?? 'bearer')
const value = ref<Record<string, unknown>>(
  Object.fromEntries(Object.entries((props.of?.config as Record<string, unknown>) ?? {}).filter(([, one]) => one != null)),
)
const { act, busy, problem } = useAct('credentials')
const chosen = computed(() => kinds.value?.find((one) => one.name === kind.value))
const choices = computed(() => (kinds.value ?? []).map((one) => ({ value: one.name, text: one.title })))
const schema = computed(() => (chosen.value?.input ?? {}) as Schema)
const note = computed(() => (schema.value.description ?? '').split('\n\n').slice(1).join(' '))
const isSecret = (one: Schema): boolean =>
  !!one.writeOnly || (one.anyOf ?? []).some(isSecret) || (typeof one.additionalProperties === 'object' && isSecret(one.additionalProperties))
const OFTEN = ['hosts', 'test_url', 'scopes', 'user', 'header', 'parameter', 'headers', 'authorize_url', 'smtp', 'imap', 'oauth', 'address']
/** What all kinds have stands behind what is a kind's own. */
const OF_ALL = ['hosts', 'test_url', 'rate', 'workflows']
/** What is asked for at once, and what may be looked at. */
const parts = computed(() => {
  const all = Object.entries(schema.value.properties ?? {})
    .filter(([key]) => key !== 'kind')
    .sort(([a], [b]) => OF_ALL.indexOf(a) - OF_ALL.indexOf(b))
  const first = (key: string, one: Schema) => (schema.value.required ?? []).includes(key) || isSecret(one) || OFTEN.includes(key)
  const kept = (one: Schema) => (props.of && props.of.kind === kind.value && isSecret(one) ? { ...one, placeholder: 'stays as it is' } : one)
  const of = (some: [string, Schema][]): Schema => ({
    ...schema.value,
    properties: Object.fromEntries(some.map(([key, one]) => [key, kept(one)])),
    required: (schema.value.required ?? []).filter((key) => some.some(([one]) => one === key)),
  })
  return { first: of(all.filter(([key, one]) => first(key, one))), more: of(all.filter(([key, one]) => !first(key, one))) }
})
const set = (given: Record<string, unknown>, shown: Schema) => {
  const kept = Object.entries(value.value).filter(([key]) => !(key in (shown.properties ?? {})))
  value.value = { ...Object.fromEntries(kept), ...given }
}
const within = (shown: Schema) => Object.fromEntries(Object.entries(value.value).filter(([key]) => key in (shown.properties ?? {})))
function ask(scope: string): void {
  const now = Array.isArray(value.value.scopes) ? (value.value.scopes as string[]) : []
  value.value = { ...value.value, scopes: now.includes(scope) ? now : [...now, scope] }
}
function another(given: string): void {
  kind.value = given
  value.value = {}
}
const tested = computed(() => !!value.value.test_url)
const store = () =>
  act('store', async () => {
    const body = { ...value.value, kind: kind.value } as never
    emit('done', await data(api.PUT('/api/v1/credentials/{name}', { params: { path: { name: name.value } }, body })))
  })
</script>

<template>
  <form class="add" @submit.prevent="store">
    <ProblemNote v-if="problem" :problem="problem" />
    <div class="head">
      <label>Name <BFormInput v-model="name" required pattern="[A-Za-z0-9_\-]+" placeholder="office" :readonly="!!of" /></label>
      <label
        >Kind <BFormSelect :model-value="kind" :options="choices" :disabled="!!of" @update:model-value="(given) => another(String(given))"
      /></label>
      <p class="quiet">{{ note }}</p>
    </div>
    <ProviderLook v-if="kind === 'oauth' && !of" @found="(given) => (value = { ...value, ...given })" @scope="ask" />
    <div class="fields">
      <SchemaForm
        :schema="parts.first"
        :root="schema"
        :first="Object.keys(parts.first.properties ?? {})"
        :value="within(parts.first)"
        @change="(g) => set(g, parts.first)" />
    </div>
    <details v-if="Object.keys(parts.more.properties ?? {}).length">
      <summary>More</summary>
      <div class="fields">
        <SchemaForm
          :schema="parts.more"
          :root="schema"
          :first="Object.keys(parts.more.properties ?? {})"
          :value="within(parts.more)"
          @change="(g) => set(g, parts.more)" />
      </div>
    </details>
    <div>
      <BButton type="submit" variant="primary" :disabled="busy === 'store'">{{
        kind === 'oauth' && value.grant !== 'client' ? 'Store, then connect' : tested ? 'Store and test' : 'Store'
      }}</BButton>
      <BButton variant="link" @click="emit('leave')">Not now</BButton>
    </div>
  </form>
</template>

<style scoped>
.add {
  padding: 1rem;
  background: var(--bs-tertiary-bg);
  margin-bottom: 1rem;
}
.head,
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(19rem, 100%), 1fr));
  gap: 0 1.25rem;
  align-items: start;
}
.head {
  margin-bottom: 0.7rem;
}
.head label {
  font-weight: 600;
}
.head p {
  align-self: center;
  margin: 0;
}
details {
  margin-bottom: 0.7rem;
}
</style>
