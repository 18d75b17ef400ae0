<script setup lang="ts">
import { onUnmounted, ref, watch } from 'vue'
import { api, data, type Schemas } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { money, shown } from '../lib/format'
import type { Draft } from './draft'

/** What a line comes to with the present sample: what it would send, and of a model the messages, one by one. */
const props = defineProps<{ draft: Draft; step: string; input: unknown; sample: string; results: Record<string, unknown> }>()
const found = ref<Schemas['RenderedOut'] | null>(null)
const problem = ref<Error | null>(null)
let asked = 0
let timer: number | undefined
async function render(): Promise<void> {
  const number = ++asked
  try {
    const body = {
      text: props.draft.text.value,
      step: props.step,
      steps: props.results,
      sample: props.sample,
      input: props.sample ? null : props.input,
    }
    const come = await data(api.POST('/api/v1/workflows/render', { body }))
    if (number !== asked) return
    found.value = come
    problem.value = null
  } catch (error) {
    if (number !== asked) return
    found.value = null
    problem.value = error as Error
  }
}
watch(
  () => [props.draft.text.value, props.step, props.input, props.sample, props.results],
  () => {
    window.clearTimeout(timer)
    timer = window.setTimeout(render, 250)
  },
  { immediate: true },
)
onUnmounted(() => window.clearTimeout(timer))
const words = (message: Record<string, unknown>) => (typeof message.content === 'string' ? message.content : shown(message.content))
</script>

<template>
  <template v-if="problem">
    <ProblemNote :problem="problem" />
    <p class="quiet">What earlier lines give is known when they were tried, or when it is written under <em>Its result</em>.</p>
  </template>
  <template v-if="found">
    <p v-if="found.empty.length" class="warned">Nothing is there for {{ found.empty.join(', ') }}.</p>
    <p v-if="found.cost" class="quiet">
      About {{ found.cost.tokens.toLocaleString() }} tokens to {{ found.cost.model }}, at most {{ found.cost.longest.toLocaleString() }} back<template
        v-if="found.cost.money !== null"
        >: {{ money(found.cost.money) }} at most</template
      >.
    </p>
    <template v-if="found.messages">
      <div v-for="(message, n) in found.messages" :key="n">
        <h4 class="quiet">{{ message.role }}</h4>
        <pre>{{ words(message) }}</pre>
      </div>
    </template>
    <pre v-else>{{ shown(found.input) }}</pre>
  </template>
</template>

<style scoped>
h4 {
  font-size: 0.9rem;
  margin: 0.4rem 0 0.1rem;
}
pre {
  padding: 0.5rem;
  background: var(--bs-tertiary-bg);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 22rem;
}
</style>
