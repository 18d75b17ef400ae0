<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { RouterLink } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import { moment } from '../lib/times'
import LoadingLines from './LoadingLines.vue'
import ProblemNote from './ProblemNote.vue'
import StateMark from './StateMark.vue'
import TestResult from './TestResult.vue'

/** What is known of a credential: what it was let do, how its test went, what uses it. */
const props = defineProps<{ of: Schemas['CredentialOut'] }>()
const {
  data: use,
  error,
  isPending,
} = useQuery({
  queryKey: ['credentials', props.of.name, 'use'],
  queryFn: () => data(api.GET('/api/v1/credentials/{name}/use', { params: { path: { name: props.of.name } } })),
})
const test = () => props.of.last_test as Schemas['TestOut'] | null
</script>

<template>
  <div class="detail">
    <dl v-if="of.connection && of.connection.state !== 'none' && of.connection.since">
      <template v-if="of.connection.account">
        <dt>Acts for</dt>
        <dd>{{ of.connection.account }}</dd>
      </template>
      <dt>May</dt>
      <dd class="mono">{{ of.connection.scopes?.join(' ') || 'what its provider lets it' }}</dd>
      <template v-if="of.connection.lacking?.length">
        <dt>Was not given</dt>
        <dd class="mono">{{ of.connection.lacking.join(' ') }}</dd>
      </template>
      <template v-if="of.connection.why">
        <dt>Needs reconnecting</dt>
        <dd>{{ of.connection.why }}, since {{ moment(of.connection.since) }}</dd>
      </template>
      <template v-if="of.connection.by">
        <dt>Connected by</dt>
        <dd>{{ of.connection.by }}</dd>
      </template>
    </dl>
    <p v-if="of.about">{{ of.about }}</p>
    <TestResult v-if="test()" :test="test()!" />
    <ProblemNote v-if="error" :problem="error" />
    <LoadingLines v-else-if="isPending" />
    <template v-else-if="use">
      <p v-if="!use.workflows.length && !use.models.length && !use.servers.length && !use.credentials.length" class="quiet">Nothing uses it.</p>
      <dl v-else>
        <template v-if="use.workflows.length">
          <dt>Used by</dt>
          <dd>
            <template v-for="(one, n) in use.workflows" :key="one.name"
              ><template v-if="n">, </template><RouterLink :to="`/workflows/${one.name}`">{{ one.name }}</RouterLink
              ><span v-if="!one.on" class="quiet"> (off)</span></template
            >
          </dd>
        </template>
        <template v-if="use.models.length">
          <dt>Models</dt>
          <dd>{{ use.models.join(', ') }}</dd>
        </template>
        <template v-if="use.servers.length">
          <dt>Tool servers</dt>
          <dd>{{ use.servers.join(', ') }}</dd>
        </template>
        <template v-if="use.credentials.length">
          <dt>Mailboxes</dt>
          <dd>{{ use.credentials.join(', ') }}</dd>
        </template>
        <template v-if="use.waiting">
          <dt>Waiting for it</dt>
          <dd>{{ use.waiting }} {{ use.waiting === 1 ? 'run' : 'runs' }}</dd>
        </template>
        <template v-if="use.runs.length">
          <dt>Their last runs</dt>
          <dd>
            <RouterLink v-for="run in use.runs" :key="run.id" :to="`/runs/${run.id}`" class="run"
              ><StateMark :state="run.state" /> {{ run.workflow }}, {{ moment(run.created_at) }}</RouterLink
            >
          </dd>
        </template>
      </dl>
    </template>
  </div>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0.15rem 1rem;
  margin: 0.4rem 0;
}
dt {
  font-weight: 400;
  color: var(--relay-quiet);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.run {
  display: block;
}
</style>
