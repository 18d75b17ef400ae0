<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BFormCheckbox } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import { money } from '../lib/format'
import { duration, moment } from '../lib/times'
import { type Pair, pairs, seconds } from '../run/compare'
import PairRecord from '../run/PairRecord.vue'
import type { Brief } from '../run/timeline'

/** Two runs side by side, step by step. */
const route = useRoute()
const router = useRouter()
const ids = computed(() => [String(route.query.a ?? ''), String(route.query.b ?? '')] as const)
const all = computed({
  get: () => route.query.all === '1',
  set: (on) => void router.replace({ query: { ...route.query, all: on ? '1' : undefined } }),
})
const useView = (which: 0 | 1) =>
  useQuery({
    queryKey: ['view', computed(() => ids.value[which])],
    enabled: () => !!ids.value[which],
    queryFn: () => data(api.GET('/api/v1/runs/{run_id}/view', { params: { path: { run_id: ids.value[which] } } })),
  })
const [one, other] = [useView(0), useView(1)]
const both = computed(() => (one.data.value && other.data.value ? ([one.data.value, other.data.value] as const) : null))
const every = computed(() => (both.value ? pairs(...both.value) : []))
const shown = computed(() => (all.value ? every.value : every.value.filter((pair) => pair.differs.length)))
const open = ref('')
const WORDS: Record<string, string> = {
  taken: 'only in one',
  outcome: 'it went otherwise',
  attempts: 'attempts',
  way: 'went another way',
  given: 'was given other things',
  gave: 'gave other things',
}
const facts = computed(() =>
  (both.value ?? []).map(({ run }) => [
    run.workflow,
    `version ${run.version}`,
    moment(run.created_at),
    duration(run.seconds),
    money(run.money, run.unpriced),
  ]),
)
const cells = (pair: Pair): [string, Brief | null][] => [
  ['first', pair.a],
  ['second', pair.b],
]
</script>

<template>
  <div class="head">
    <h1>Compare</h1>
    <BFormCheckbox v-model="all">what is the same too</BFormCheckbox>
  </div>
  <p v-if="!ids[0] || !ids[1]">Choose two runs in <RouterLink to="/runs">the list of runs</RouterLink>, then <em>Compare</em>.</p>
  <ProblemNote v-else-if="one.error.value || other.error.value" :problem="(one.error.value ?? other.error.value)!" />
  <LoadingLines v-else-if="!both" />
  <template v-else>
    <table class="table">
      <thead>
        <tr>
          <th>Step</th>
          <th v-for="(view, at) in both" :key="at" class="run">
            <StateMark :state="view.run.state" /> <RouterLink :to="`/runs/${view.run.id}`">{{ at ? 'the second' : 'the first' }}</RouterLink>
            <div class="quiet facts">{{ facts[at]?.join(', ') }}</div>
          </th>
        </tr>
      </thead>
      <tbody>
        <template v-for="pair in shown" :key="pair.line.path + pair.line.trace">
          <tr>
            <td>
              <button
                type="button"
                class="btn btn-link p-0 text-start sentence"
                :aria-expanded="open === pair.line.trace"
                @click="open = open === pair.line.trace ? '' : pair.line.trace">
                {{ pair.line.number }} {{ pair.line.sentence }}
              </button>
              <div v-if="pair.differs.length" class="differs">{{ pair.differs.map((word) => WORDS[word]).join(', ') }}</div>
            </td>
            <td v-for="[side, span] in cells(pair)" :key="side">
              <template v-if="span">
                <StateMark :state="span.state" />
                <div class="quiet">
                  {{ duration(seconds(span)) }}<template v-if="span.tried > 1">, {{ span.tried }} attempts</template
                  ><template v-if="span.tokens">, {{ span.tokens }} tokens</template
                  ><template v-if="span.money || span.unpriced">, {{ money(span.money, span.unpriced) }}</template>
                </div>
                <div v-if="span.error" class="bad">{{ span.error.kind }}: {{ span.error.message }}</div>
              </template>
              <span v-else class="quiet">not taken</span>
            </td>
          </tr>
          <tr v-if="open === pair.line.trace">
            <td colspan="3"><PairRecord :a="ids[0]" :b="ids[1]" :path-a="pair.a?.path ?? ''" :path-b="pair.b?.path ?? ''" /></td>
          </tr>
        </template>
      </tbody>
    </table>
    <p v-if="!shown.length">They went the same way, and gave the same at every step.</p>
  </template>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 2rem;
  align-items: center;
  margin-bottom: 1rem;
}
.table {
  table-layout: fixed;
}
.run {
  white-space: normal;
}
.facts {
  font-weight: 400;
}
.sentence {
  color: inherit;
  overflow-wrap: anywhere;
}
.differs {
  color: var(--relay-waiting);
  font-size: 0.85rem;
}
.bad {
  color: var(--relay-failed);
  overflow-wrap: anywhere;
}
</style>
