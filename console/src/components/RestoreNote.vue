<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { RouterLink } from 'vue-router'
import { api, data } from '../api/client'
import { useAct } from '../lib/act'
import { moment } from '../lib/times'
import ProblemNote from './ProblemNote.vue'

const { data: found } = useQuery({ queryKey: ['restore'], queryFn: () => data(api.GET('/api/v1/restore')), refetchInterval: 15_000 })
const { act, busy, problem } = useAct('restore')
const listing = ref(false)
const release = () => act('release', () => data(api.POST('/api/v1/release')))
const forget = () => act('forget', () => data(api.DELETE('/api/v1/restore/missing')))
</script>

<template>
  <div v-if="found && (found.held || found.count)" class="alert alert-warning note" role="alert">
    <p v-if="found.held" class="line">
      <span
        >{{ found.held }} run{{ found.held === 1 ? ' is' : 's are' }} held, as after a restore of the database: what they did since may be done
        already. <RouterLink to="/runs?state=held">Look at them</RouterLink> before they go on.</span
      >
      <BButton size="sm" variant="outline-primary" :disabled="busy !== ''" @click="release">Release them</BButton>
    </p>
    <template v-if="found.count">
      <p class="line">
        <span
          >{{ found.count }} event{{ found.count === 1 ? ' was' : 's were' }} answered and {{ found.count === 1 ? 'is' : 'are' }} not in the database
          any more. Have {{ found.count === 1 ? 'it' : 'them' }} sent again.</span
        >
        <BButton size="sm" variant="link" :aria-expanded="listing" @click="listing = !listing">{{ listing ? 'Hide' : 'Show' }}</BButton>
        <BButton size="sm" variant="outline-primary" :disabled="busy !== ''" @click="forget">Clear the list</BButton>
      </p>
      <div v-if="listing" class="list">
        <table class="table">
          <thead>
            <tr>
              <th>Answered</th>
              <th>Workflow</th>
              <th>Source</th>
              <th>Event</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in found.missing" :key="one.run">
              <td>{{ moment(one.answered_at) }}</td>
              <td class="mono">{{ one.workflow }}</td>
              <td class="mono">{{ one.source }}</td>
              <td class="mono">{{ one.event_key }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-if="listing && found.next" class="quiet">The first {{ found.missing.length }}; all of them: <code>oak-relay missing</code></p>
    </template>
    <ProblemNote v-if="problem" :problem="problem" />
  </div>
</template>

<style scoped>
.note :deep(> *) {
  flex: 1;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 1rem;
  align-items: center;
  margin: 0 0 0.25rem;
}
.line span {
  flex: 1;
  min-width: 14rem;
}
.list {
  max-height: 18rem;
  overflow: auto;
}
td {
  overflow-wrap: anywhere;
}
</style>
