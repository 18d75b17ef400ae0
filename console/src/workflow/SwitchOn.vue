<script setup lang="ts">
import { BButton, BModal } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { money } from '../lib/format'
import { exact, passing } from '../lib/times'
import type { Draft } from './draft'

/** Puts a workflow on. Where it asks models, what it will cost is said before. */
const props = defineProps<{ draft: Draft; word: string; disabled: boolean }>()
const emit = defineEmits<{ on: []; line: [path: string] }>()
const shown = ref(false)
const busy = ref(false)
const told = ref<Schemas['PriceOut'] | null>(null)
const problem = ref<Error | null>(null)
async function ask(): Promise<void> {
  busy.value = true
  problem.value = null
  try {
    told.value = await data(api.POST('/api/v1/workflows/price', { body: { text: props.draft.text.value } }))
    if (told.value.asks.length) shown.value = true
    else emit('on')
  } catch (error) {
    problem.value = error as Error
    shown.value = true
  } finally {
    busy.value = false
  }
}
const dearest = computed(() => told.value?.asks.find((one) => one.money) ?? null)
const by = computed(() => {
  const runs = told.value?.runs ?? 0
  return runs ? `the mean of ${runs === 1 ? 'one run' : `the last ${runs} runs`}` : 'by what was tried of it'
})
const often = (n: number) => (n >= 100 ? Math.round(n).toLocaleString() : n.toFixed(n < 10 && n % 1 ? 1 : 0))
const day = (at: string) => new Date(at).toLocaleDateString(undefined, { day: 'numeric', month: 'long', year: 'numeric' })
function put(): void {
  shown.value = false
  emit('on')
}
function look(step: string): void {
  const line = props.draft.checked.value?.script.find((one) => one.step === step && one.kind !== 'arm')
  shown.value = false
  if (line) emit('line', line.path)
}
</script>

<template>
  <BButton variant="outline-primary" :disabled="disabled || busy" @click="ask">{{ word }}</BButton>
  <BModal v-model="shown" title="Before it is on" title-tag="h2" title-class="fs-5" ok-title="Switch on" cancel-title="Not now" @ok.prevent="put">
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="told">
      <p v-if="told.a_run !== null">
        <strong>A run costs about {{ money(told.a_run) }}</strong
        >, {{ by }}<template v-if="told.unpriced">; some models have no known price, and come on top</template>.
      </p>
      <p v-else>What a run costs is not known yet: try its lines, or start it once, and it is said here.</p>
      <ul class="starts">
        <li v-for="one in told.starts" :key="one.trigger">
          {{ one.sentence
          }}<template v-if="one.a_month !== null"
            >: {{ often(one.a_month) }} times in 30 days<template v-if="one.measured">, as in the last week</template></template
          ><template v-else>: as often as it comes</template>
          <span v-if="one.next.length" class="quiet">
            – next <time v-for="(at, n) in one.next" :key="at" :title="exact(at)">{{ n ? ', ' : '' }}{{ passing(at) }}</time></span
          >
        </li>
      </ul>
      <p v-if="told.a_month">
        <strong>About {{ money(told.a_month) }} in 30 days.</strong>
      </p>
      <p v-if="dearest">
        Most of it at
        <button type="button" class="btn btn-link p-0 align-baseline" @click="look(dearest.step)">{{ dearest.number }} {{ dearest.sentence }}</button
        >, {{ money(dearest.money) }} a run.<template v-for="other in dearest.others" :key="other.alias">
          <span class="mono ms-1">{{ other.alias }}</span> would take about {{ money(other.money) }} for as many tokens.</template
        >
      </p>
      <p v-for="one in told.drains" :key="one.credential">
        The credit behind <span class="mono">{{ one.credential }}</span>, {{ money(one.left) }},
        <template v-if="one.lasts">lasts until {{ day(one.lasts) }} at that pace.</template
        ><template v-else>is not drawn on by what is known.</template>
      </p>
    </template>
  </BModal>
</template>

<style scoped>
.starts {
  padding-left: 1.2rem;
}
p {
  overflow-wrap: anywhere;
}
</style>
