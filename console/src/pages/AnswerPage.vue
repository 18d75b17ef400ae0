<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { api, data } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import QuestionCard, { type Given } from '../components/QuestionCard.vue'

const props = defineProps<{ link: string }>()
const path = { params: { path: { link: props.link } } }
const question = useQuery({
  queryKey: ['answer', props.link],
  queryFn: () => data(api.GET('/api/v1/answers/{link}', path)),
  refetchOnWindowFocus: false,
  retry: false,
})
const done = ref(false)

async function send(given: Given): Promise<void> {
  await data(api.POST('/api/v1/answers/{link}', { ...path, body: { ...given, alike: false } }))
  done.value = true // a closed question says nothing any more: what is shown is kept
}
</script>

<template>
  <main class="answer">
    <template v-if="done">
      <h1>Thank you, your answer is kept</h1>
      <p>You may close this page.</p>
    </template>
    <ProblemNote v-else-if="question.error.value" :problem="question.error.value" />
    <LoadingLines v-else-if="!question.data.value" />
    <template v-else>
      <h1>A question for you</h1>
      <QuestionCard :question="{ ...question.data.value, link: null, alike: 1 }" :open="question.data.value.state === 'open'" :send="send" />
    </template>
  </main>
</template>

<style scoped>
.answer {
  max-width: 42rem;
}
h1 {
  margin-bottom: 1rem;
}
</style>
