<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { api, data } from '../api/client'
import { useAct } from '../lib/act'
import { connect } from '../lib/connecting'
import { moment } from '../lib/times'
import { every } from '../lib/lists'
import ProblemNote from './ProblemNote.vue'

/** Credentials that need reconnecting. */
const { data: broken } = useQuery({
  queryKey: ['tray', 'connections'],
  queryFn: () => every((query) => data(api.GET('/api/v1/tray/connections', { params: { query } }))),
  refetchInterval: 5000,
})
const { act, busy, problem } = useAct('tray')
</script>

<template>
  <ProblemNote v-if="problem" :problem="problem" />
  <article v-for="one in broken" :key="one.credential" class="broken" :aria-label="`${one.credential} needs reconnecting`">
    <h2>
      <span class="mono">{{ one.credential }}</span> needs reconnecting
    </h2>
    <p>
      {{ one.why[0]?.toUpperCase() }}{{ one.why.slice(1) }}.
      <span class="quiet"
        >Since {{ moment(one.since) }}<template v-if="one.by">; connected by {{ one.by }}</template
        ><template v-if="one.account"> for {{ one.account }}</template
        >.</span
      >
    </p>
    <p v-if="one.waiting">{{ one.waiting }} {{ one.waiting === 1 ? 'run waits' : 'runs wait' }} for it, and will go on.</p>
    <BButton variant="primary" :disabled="busy === one.credential" @click="act(one.credential, () => connect(one.credential))">Connect again</BButton>
  </article>
</template>

<style scoped>
.broken {
  border-left: 3px solid var(--relay-failed);
  padding: 0.25rem 0 0.25rem 1rem;
  margin-bottom: 1.5rem;
}
h2 {
  font-size: 1.1rem;
}
p {
  margin-bottom: 0.4rem;
}
</style>
