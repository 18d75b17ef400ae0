<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { BFormSelect } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import BrokenList from '../components/BrokenList.vue'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import QuestionCard, { type Given } from '../components/QuestionCard.vue'
import { useList } from '../lib/lists'
import { useLive, useSoon } from '../lib/live'

type Question = Schemas['QuestionOut']
type State = 'open' | 'answered' | 'expired' | 'withdrawn'
const STATES: State[] = ['open', 'answered', 'expired', 'withdrawn']
const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const state = computed<State>({
  get: () => STATES.find((s) => s === route.query.state) ?? 'open',
  set: (value) => void router.replace({ query: value === 'open' ? {} : { state: value } }),
})
const questions = useList(['tray', state], (query) => data(api.GET('/api/v1/tray', { params: { query: { ...query, state: state.value } } })), {
  refetchInterval: 5000,
})
const look = () => void client.invalidateQueries({ queryKey: ['tray'] }, { cancelRefetch: false })
const soon = useSoon(look)
useLive({ run: soon, many: soon })

async function send(question: Question, given: Given, keepalive = false): Promise<void> {
  await data(api.POST('/api/v1/tray/{question_id}/answer', { params: { path: { question_id: question.id } }, body: given, keepalive }))
  look()
}
</script>

<template>
  <div class="head">
    <h1>Tray</h1>
    <BFormSelect v-model="state" :options="STATES" size="sm" aria-label="State" class="states" />
  </div>
  <BrokenList v-if="state === 'open'" />
  <ProblemNote v-if="questions.query.error.value" :problem="questions.query.error.value" />
  <LoadingLines v-else-if="questions.query.isPending.value" />
  <p v-else-if="!questions.items.value.length && state === 'open'">
    Nothing waits for a person. A step <code>ask</code> puts a question here, and so does a call of which nobody knows whether it happened. See
    <RouterLink to="/runs?state=waiting">runs that wait</RouterLink> for other reasons.
  </p>
  <p v-else-if="!questions.items.value.length">No question is {{ state }}.</p>
  <template v-else>
    <QuestionCard
      v-for="question in questions.items.value"
      :key="question.id"
      :question="question"
      :open="question.state === 'open'"
      :send="(given, leaving) => send(question, given, leaving)" />
    <MoreButton :list="questions" />
  </template>
</template>

<style scoped>
.head {
  display: flex;
  gap: 1rem;
  align-items: center;
  margin-bottom: 1rem;
}
.states {
  width: auto;
  margin-left: auto;
}
</style>
