<script setup lang="ts">
import TimeText from '../components/TimeText.vue'
import { useQueryClient } from '@tanstack/vue-query'
import { BFormInput } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data } from '../api/client'
import FirstSteps from '../components/FirstSteps.vue'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import { money } from '../lib/format'
import { duration } from '../lib/times'
import { useList } from '../lib/lists'
import { useLive, useSoon } from '../lib/live'

const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const again = useSoon(() => client.invalidateQueries({ queryKey: ['workflows'] }, { cancelRefetch: false }), 1000)
useLive({ run: again, many: again })

const search = computed({
  get: () => String(route.query.search ?? ''),
  set: (text) => void router.replace({ query: text ? { search: text } : {} }),
})
const list = useList(['workflows', 'shown', search], (query) =>
  data(api.GET('/api/v1/workflows', { params: { query: { ...query, text: search.value || undefined } } })),
)
</script>

<template>
  <div class="head">
    <h1>Workflows</h1>
    <BFormInput
      v-if="list.items.value.length || search"
      v-model="search"
      type="search"
      placeholder="Search name, title, label"
      aria-label="Search"
      class="search" />
    <RouterLink to="/workflows/new?kind=agent" class="btn btn-outline-primary">New agent</RouterLink>
    <RouterLink to="/workflows/new" class="btn btn-primary">New workflow</RouterLink>
  </div>
  <ProblemNote v-if="list.query.error.value" :problem="list.query.error.value" />
  <LoadingLines v-else-if="list.query.isPending.value" />
  <FirstSteps v-else-if="!list.items.value.length && !search" />
  <p v-else-if="!list.items.value.length">Nothing is called “{{ search }}”.</p>
  <table v-else class="table">
    <thead>
      <tr>
        <th>Workflow</th>
        <th class="wide-only">What starts it</th>
        <th>State</th>
        <th>Last run</th>
        <th class="num wide-only">Succeeded</th>
        <th class="num wide-only">Median</th>
        <th class="num wide-only">Money per run</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="item in list.items.value" :key="item.name" class="rowlink" @click="router.push(`/workflows/${item.name}`)">
        <td>
          <RouterLink :to="`/workflows/${item.name}`">{{ item.title || item.name }}</RouterLink>
          <div class="quiet mono">{{ item.name }}</div>
        </td>
        <td class="wide-only">{{ item.starters.join('; ') }}</td>
        <td>
          <template v-if="item.on_version"
            >on, version {{ item.on_version
            }}<span v-if="item.latest_version > item.on_version" class="quiet">, draft {{ item.latest_version }}</span></template
          >
          <span v-else class="quiet">off</span>
        </td>
        <td>
          <template v-if="item.last_state"
            ><StateMark :state="item.last_state" /> <span class="quiet"><TimeText :at="item.last_at" /></span
          ></template>
          <span v-else class="quiet">never</span>
        </td>
        <td class="num wide-only">
          {{ item.success === null ? '–' : `${Math.round(item.success * 100)} % of ${item.runs}` }}
          <div v-if="item.mended" class="quiet">{{ item.mended }} mended</div>
        </td>
        <td class="num wide-only">{{ duration(item.seconds) }}</td>
        <td class="num wide-only">{{ money(item.money) }}</td>
      </tr>
    </tbody>
  </table>
  <MoreButton :list="list" />
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.75rem 1rem;
  margin-bottom: 1rem;
}
.search {
  max-width: 18rem;
  margin-left: auto;
}
</style>
