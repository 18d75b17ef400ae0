<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BFormInput } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import ConnectionsNav from '../components/ConnectionsNav.vue'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { every } from '../lib/lists'

type Action = Schemas['ActionOut']
interface Field {
  name: string
  type: string
  needed: boolean
  about: string
}
const route = useRoute()
const router = useRouter()
const words = computed({
  get: () => String(route.query.text ?? ''),
  set: (text) => void router.replace({ query: { ...route.query, text: text || undefined } }),
})
const open = computed({
  get: () => String(route.query.action ?? ''),
  set: (name) => void router.replace({ query: { ...route.query, action: name || undefined } }),
})
const connectors = useQuery({
  queryKey: ['connectors'],
  queryFn: () => every((query) => data(api.GET('/api/v1/connectors', { params: { query } }))),
})
const actions = useQuery({ queryKey: ['actions'], queryFn: () => every((query) => data(api.GET('/api/v1/actions', { params: { query } }))) })
const problem = computed(() => connectors.error.value ?? actions.error.value)
const has = (one: Action) => `${one.name} ${one.title}`.toLowerCase().includes(words.value.toLowerCase())
const groups = computed(() =>
  (connectors.data.value ?? [])
    .map((connector) => ({ connector, actions: (actions.data.value ?? []).filter((one) => connector.actions.includes(one.name) && has(one)) }))
    .filter((group) => group.actions.length || (group.connector.fault && !words.value)),
)
const REPEATS: Record<string, string> = {
  safe: 'It changes nothing, and is done again after a failure without a second thought.',
  keyed: 'It is sent with a key by which its receiver knows that it is the same: doing it again does it once.',
  checkable: 'When its outcome is unknown it is looked whether it happened; only then is it done again.',
  unsafe: 'It is never done again by itself: when its outcome is unknown, a person is asked.',
}
function fields(schema: Record<string, unknown>, first: readonly string[] = []): Field[] {
  const properties = (schema.properties ?? {}) as Record<
    string,
    { type?: string; description?: string; enum?: unknown[]; anyOf?: { type?: string }[] }
  >
  const needed = (schema.required ?? []) as string[]
  const rank = (name: string) => (first.includes(name) ? first.indexOf(name) : needed.includes(name) ? 50 : 99)
  return Object.entries(properties)
    .map(([name, one]) => ({
      name,
      type: one.enum
        ? one.enum.map(String).join(' | ')
        : (one.type ??
          one.anyOf
            ?.map((kind) => kind.type ?? '')
            .filter(Boolean)
            .join(' | ') ??
          ''),
      needed: needed.includes(name),
      about: one.description ?? '',
    }))
    .sort((a, b) => rank(a.name) - rank(b.name))
}
const example = (one: Action) => {
  const lines = Object.entries(one.example).map(([name, value]) => `      ${name}: ${typeof value === 'string' ? value : JSON.stringify(value)}`)
  return [`  - step: ${one.name.split('.').at(-1) ?? 'step'}`, `    do: ${one.name}`, ...(lines.length ? ['    with:', ...lines] : [])].join('\n')
}
</script>

<template>
  <ConnectionsNav />
  <div class="head">
    <h1>Connectors and actions</h1>
    <BFormInput v-model="words" type="search" size="sm" class="words" placeholder="find an action" aria-label="Find an action" maxlength="100" />
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <LoadingLines v-else-if="connectors.isPending.value || actions.isPending.value" />
  <p v-else-if="!groups.length">No action is called “{{ words }}”.</p>
  <section v-for="group in groups" v-else :key="group.connector.name" :aria-label="group.connector.title">
    <h2>
      {{ group.connector.title }} <span class="quiet origin">{{ group.connector.package }} {{ group.connector.version }}</span>
    </h2>
    <p v-if="group.connector.fault" class="fault" role="alert">It cannot be used: {{ group.connector.fault }}</p>
    <article v-for="one in group.actions" :key="one.name">
      <button type="button" class="btn btn-link p-0 text-start" :aria-expanded="open === one.name" @click="open = open === one.name ? '' : one.name">
        <span class="mono">{{ one.name }}</span>
      </button>
      <span class="title">{{ one.title }}</span>
      <div v-if="open === one.name" class="about">
        <p>{{ REPEATS[one.repeat] ?? one.repeat }} One try may take {{ one.timeout }} s.</p>
        <p v-if="one.scopes.length">
          An app's credential needs the scopes <span class="mono">{{ one.scopes.join(' ') }}</span>.
        </p>
        <template
          v-for="[title, some] in [
            ['It takes', fields(one.input, one.first)],
            ['It gives', fields(one.output)],
          ] as const"
          :key="title">
          <h3 v-if="some.length">{{ title }}</h3>
          <dl v-if="some.length">
            <template v-for="field in some" :key="field.name">
              <dt>
                <span class="mono">{{ field.name }}</span> <span class="quiet">{{ field.type }}{{ field.needed ? ', needed' : '' }}</span>
              </dt>
              <dd>{{ field.about }}</dd>
            </template>
          </dl>
        </template>
        <h3>An example</h3>
        <pre tabindex="0">{{ example(one) }}</pre>
      </div>
    </article>
  </section>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 1rem;
  align-items: center;
  margin-bottom: 0.5rem;
}
.words {
  width: 16rem;
  margin-left: auto;
}
section {
  margin-top: 1.2rem;
}
h2 {
  margin-bottom: 0.3rem;
}
h3 {
  font-size: 0.95rem;
  margin: 0.6rem 0 0.2rem;
}
.origin {
  font-size: 0.85rem;
  font-weight: 400;
}
article {
  border-top: 1px solid var(--relay-line);
  padding: 0.25rem 0;
}
.title {
  margin-left: 0.75rem;
}
.about {
  padding: 0.4rem 0 0.8rem 1rem;
}
.fault {
  color: var(--relay-failed);
}
dl {
  display: grid;
  grid-template-columns: minmax(10rem, 16rem) minmax(0, 1fr);
  gap: 0.1rem 1rem;
  margin: 0;
}
dt {
  font-weight: 400;
  overflow-wrap: anywhere;
}
dd {
  margin: 0;
}
@media (max-width: 700px) {
  dl {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
