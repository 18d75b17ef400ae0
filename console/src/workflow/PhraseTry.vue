<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'

/** Phrases tried on the choices of a question, before anybody says them. */
const props = defineProps<{ choices: Record<string, string[]>; otherwise?: string; model?: string }>()
const MOST = 100
const text = ref('')
const found = ref<Schemas['PhraseOut'][] | null>(null)
const problem = ref<Error | null>(null)
const busy = ref(false)
const phrases = computed(() =>
  text.value
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean),
)
async function look(): Promise<void> {
  problem.value = null
  busy.value = true
  try {
    const body = { choices: props.choices, otherwise: props.otherwise ?? null, phrases: phrases.value }
    found.value = (await data(api.POST('/api/v1/phrases', { body }))).found
  } catch (error) {
    problem.value = error as Error
  } finally {
    busy.value = false
  }
}
/** The two choices that a phrase is most like. */
const near = (one: Schemas['PhraseOut']) =>
  Object.entries(one.likeness)
    .slice(0, 2)
    .map(([name, value]) => `${name} ${value.toFixed(2)}`)
    .join(', ')
</script>

<template>
  <details class="mt-2">
    <summary>Try phrases</summary>
    <label class="d-block mt-2">
      What somebody might say, one a line
      <textarea v-model="text" class="form-control" rows="4" maxlength="20000" />
    </label>
    <button type="button" class="btn btn-sm btn-outline-primary mt-1" :disabled="busy || !phrases.length || phrases.length > MOST" @click="look">
      See which choice each finds
    </button>
    <span v-if="phrases.length > MOST" class="quiet ms-2">{{ MOST }} at once at most; here are {{ phrases.length }}</span>
    <div v-if="found" role="status" class="table-responsive mt-2">
      <table class="table table-sm">
        <thead>
          <tr>
            <th scope="col">What is said</th>
            <th scope="col">It finds</th>
            <th scope="col">Most like</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(one, n) in found" :key="n">
            <td>{{ one.text }}</td>
            <td>
              {{ one.choice ?? 'none of them' }}
              <span v-if="!one.sure" class="quiet">{{ model ? `unsure: ${model} is asked` : 'unsure' }}</span>
            </td>
            <td class="quiet">{{ near(one) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
  </details>
</template>

<style scoped>
td:first-child {
  overflow-wrap: anywhere;
}
</style>
