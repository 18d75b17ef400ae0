<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BFormInput } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import ActionAbout from '../components/ActionAbout.vue'
import ConnectionsNav from '../components/ConnectionsNav.vue'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { every } from '../lib/lists'

type Action = Schemas['ActionOut']
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
</script>

<template>
  <ConnectionsNav />
  <div class="head">
    <h1>Connectors and actions</h1>
    <BFormInput v-model="words" type="search" size="sm" class="words" placeholder="find an action" aria-label="Find an action" maxlength="100" />
    <RouterLink class="btn btn-primary" to="/descriptions">Actions from a description</RouterLink>
  </div>
  <p class="quiet">
    What a step can do. Any service that has an OpenAPI document becomes actions of its own; for others there is
    <span class="mono">http.request</span>, which takes a curl command too.
  </p>
  <ProblemNote v-if="problem" :problem="problem" />
  <LoadingLines v-else-if="connectors.isPending.value || actions.isPending.value" />
  <p v-else-if="!groups.length">No action is called “{{ words }}”.</p>
  <section v-for="group in groups" v-else :key="group.connector.name" :aria-label="group.connector.title">
    <h2>
      <RouterLink v-if="!group.connector.package" :to="`/connectors/${group.connector.name}`">{{ group.connector.title }}</RouterLink>
      <template v-else>{{ group.connector.title }}</template>
      <span class="quiet origin">{{ group.connector.package || group.connector.address }} {{ group.connector.version }}</span>
    </h2>
    <p v-if="group.connector.fault" class="fault" role="alert">It cannot be used: {{ group.connector.fault }}</p>
    <article v-for="one in group.actions" :key="one.name">
      <button type="button" class="btn btn-link p-0 text-start" :aria-expanded="open === one.name" @click="open = open === one.name ? '' : one.name">
        <span class="mono">{{ one.name }}</span>
      </button>
      <span class="title">{{ one.title }}</span>
      <ActionAbout v-if="open === one.name" :action="one" />
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
.origin {
  margin-left: 0.5rem;
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
.fault {
  color: var(--relay-failed);
}
</style>
