<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { BButton, BFormInput } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import ActionAbout from '../components/ActionAbout.vue'
import ActionTry from '../components/ActionTry.vue'
import ConnectionsNav from '../components/ConnectionsNav.vue'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useAct } from '../lib/act'
import { sure } from '../lib/sure'
import { moment } from '../lib/times'

/** A connector that was read from a description: its actions, each to be tried; what a newer description would change; what uses it. */
const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const path = { name: props.name }
const found = useQuery({ queryKey: ['connector', props.name], queryFn: () => data(api.GET('/api/v1/connectors/{name}', { params: { path } })) })
const words = ref('')
const shown = computed(() =>
  (found.data.value?.operations ?? []).filter((one) =>
    `${one.action.name} ${one.action.title} ${one.key} ${one.group}`.toLowerCase().includes(words.value.toLowerCase()),
  ),
)
const open = computed({
  get: () => String(route.query.action ?? ''),
  set: (action) => void router.replace({ query: { ...route.query, action: action || undefined } }),
})
const trying = ref('')
const { act, busy, problem } = useAct('connectors')
const compared = ref<Schemas['ConnectorComparedOut'] | null>(null)
const fetched = computed(() => /^https?:/.test(found.data.value?.source ?? ''))
const compare = () =>
  act('compare', async () => {
    compared.value = null
    compared.value = await data(api.POST('/api/v1/connectors/{name}/compare', { params: { path }, body: {} }))
  })
async function remove(): Promise<void> {
  const using = (found.data.value?.workflows ?? []).map((one) => one.name)
  const words = using.length ? `${using.join(', ')} ${using.length > 1 ? 'use' : 'uses'} it, and will fail without it.` : 'Nothing uses it.'
  if (!(await sure(`Remove ${props.name} with all its actions?`, words, 'Remove it'))) return
  await act('remove', async () => {
    await data(api.DELETE('/api/v1/connectors/{name}', { params: { path, query: { anyway: true } } }))
    client.removeQueries({ queryKey: ['connector', props.name] })
    await client.invalidateQueries({ queryKey: ['actions'] })
    await router.push('/connectors')
  })
}
</script>

<template>
  <ConnectionsNav />
  <p class="quiet crumbs"><RouterLink to="/connectors">Connectors and actions</RouterLink> / {{ name }}</p>
  <ProblemNote v-if="found.error.value" :problem="found.error.value" :again="() => found.refetch()" />
  <LoadingLines v-else-if="!found.data.value" />
  <template v-else>
    <div class="head">
      <div>
        <h1>
          {{ found.data.value.title }} <span class="quiet mono">{{ name }}</span>
        </h1>
        <p class="quiet">
          Version {{ found.data.value.number }}, of {{ moment(found.data.value.updated_at) }}. The service is at
          <span class="mono">{{ found.data.value.address }}</span>; its description ({{ found.data.value.version || 'without a version' }}) came from
          <span class="mono">{{ found.data.value.source }}</span>.
        </p>
        <p>
          <template v-if="found.data.value.workflows.length">
            Used by
            <template v-for="(one, index) in found.data.value.workflows" :key="one.name"
              >{{ index ? ', ' : '' }}<RouterLink :to="`/workflows/${one.name}`">{{ one.name }}</RouterLink
              >{{ one.on ? '' : ' (off)' }}</template
            >.
          </template>
          <template v-else>No workflow uses it yet: its actions are offered where a step or an agent's tool is added.</template>
        </p>
      </div>
      <div class="do">
        <BButton v-if="fetched" size="sm" variant="outline-primary" :disabled="busy === 'compare'" @click="compare">
          {{ busy === 'compare' ? 'Looking…' : 'Is there a newer one?' }}
        </BButton>
        <RouterLink
          class="btn btn-outline-primary btn-sm"
          :to="{ path: '/descriptions', query: { name, source: fetched ? found.data.value.source : undefined } }"
          >Choose operations</RouterLink
        >
        <BButton size="sm" variant="outline-danger" :disabled="busy === 'remove'" @click="remove">Remove</BButton>
      </div>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <section v-if="compared" class="compared" aria-label="What a newer description changes" role="status">
      <p v-if="!compared.changed.length">Nothing that is used here is another in the description of today ({{ compared.version }}).</p>
      <template v-else>
        <p>
          The description of today ({{ compared.version }}) differs.
          <RouterLink :to="{ path: '/descriptions', query: { name, source: found.data.value.source } }">Take it over</RouterLink>
        </p>
        <div v-for="one in compared.changed" :key="one.key">
          <strong class="mono">{{ one.name }}</strong>
          <span v-if="one.workflows.length" class="quiet"> used by {{ one.workflows.map((w) => w.name).join(', ') }}</span>
          <ul>
            <li v-for="what in one.what" :key="what">{{ what }}</li>
          </ul>
        </div>
      </template>
      <p v-if="compared.offered.length" class="quiet">It offers {{ compared.offered.length }} operations besides.</p>
    </section>
    <h2>Actions</h2>
    <BFormInput v-model="words" type="search" size="sm" class="words" placeholder="find an action" aria-label="Find an action" maxlength="100" />
    <p v-if="!shown.length">No action is called “{{ words }}”.</p>
    <article v-for="one in shown" :key="one.key">
      <button
        type="button"
        class="btn btn-link p-0 text-start"
        :aria-expanded="open === one.action.name"
        @click="open = open === one.action.name ? '' : one.action.name">
        <span class="mono">{{ one.action.name }}</span>
      </button>
      <span class="title">{{ one.action.title }}</span> <span class="quiet key">{{ one.key }}</span>
      <template v-if="open === one.action.name">
        <p v-if="one.sent_as.length" class="more quiet">
          It wants a credential: {{ one.sent_as.join(', or ') }}. <RouterLink to="/credentials">Credentials</RouterLink>
        </p>
        <p v-for="note in one.notes" :key="note" class="more quiet">{{ note }}</p>
        <ActionAbout :action="one.action" />
        <div class="more">
          <BButton v-if="trying !== one.action.name" size="sm" variant="outline-primary" @click="trying = one.action.name">Try it</BButton>
          <ActionTry v-else :connector="name" :action="one.action" />
        </div>
      </template>
    </article>
    <h2>Versions</h2>
    <ol class="versions">
      <li v-for="one in found.data.value.versions" :key="one.number" :value="one.number">
        {{ moment(one.created_at) }} by {{ one.author }}, of the description {{ one.version || 'without a version' }}
      </li>
    </ol>
  </template>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 2rem;
}
.head > div:first-child {
  flex: 1 1 30rem;
  min-width: 0;
  overflow-wrap: anywhere;
}
.do {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: flex-start;
}
.crumbs {
  margin-bottom: 0.25rem;
}
.words {
  max-width: 16rem;
  margin-bottom: 0.5rem;
}
.compared {
  border-left: 3px solid var(--relay-waiting);
  padding-left: 0.75rem;
  margin-bottom: 1rem;
}
article {
  border-top: 1px solid var(--relay-line);
  padding: 0.25rem 0;
  overflow-wrap: anywhere;
}
.title {
  margin: 0 0.5rem;
}
.key {
  font-size: 0.85rem;
}
.more {
  margin: 0.25rem 0 0.5rem 1rem;
}
h2 {
  margin-top: 1.5rem;
}
</style>
