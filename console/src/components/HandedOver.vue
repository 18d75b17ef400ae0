<script setup lang="ts">
import { BButton, BFormTextarea } from 'bootstrap-vue-next'
import { nextTick, ref, useTemplateRef, watch } from 'vue'
import { api, data } from '../api/client'
import { useList } from '../lib/lists'
import LoadingLines from './LoadingLines.vue'
import MoreButton from './MoreButton.vue'
import ProblemNote from './ProblemNote.vue'
import SaidLines from './SaidLines.vue'

/** A conversation that a person has taken over: what was said, and a box to write in it. */
const props = defineProps<{ question: string; conversation: string; busy: boolean }>()
const emit = defineEmits<{ back: [word: string] }>()
const path = { question_id: props.question }
const list = useList(['tray', 'said', props.question], (query) => data(api.GET('/api/v1/tray/{question_id}/said', { params: { path, query } })), {
  limit: 200,
  refetchInterval: 3000,
})
const box = useTemplateRef<HTMLElement>('box')
watch(
  () => list.items.value.length,
  () => void nextTick(() => box.value?.scrollTo(0, box.value.scrollHeight)),
  { immediate: true },
)
const text = ref('')
const word = ref('')
const saying = ref(false)
const problem = ref<Error | null>(null)

async function say(): Promise<void> {
  if (!text.value.trim() || saying.value) return
  saying.value = true
  problem.value = null
  try {
    await data(api.POST('/api/v1/tray/{question_id}/say', { params: { path }, body: { text: text.value } }))
    text.value = ''
    await list.query.refetch()
  } catch (error) {
    problem.value = error as Error
  } finally {
    saying.value = false
  }
}
async function judge(line: { seq: number }, good: boolean | null): Promise<void> {
  problem.value = null
  try {
    await data(api.POST('/api/v1/conversations/verdicts', { body: { key: props.conversation, seq: line.seq, good } }))
  } catch (error) {
    problem.value = error as Error
  }
  await list.query.refetch()
}
function key(event: KeyboardEvent): void {
  if (event.key !== 'Enter' || event.shiftKey || event.isComposing) return
  event.preventDefault()
  void say()
}
</script>

<template>
  <LoadingLines v-if="list.query.isPending.value" />
  <ProblemNote v-else-if="list.query.error.value" :problem="list.query.error.value" :again="() => list.query.refetch()" />
  <div v-else ref="box" class="talk" tabindex="0" role="region" aria-label="What was said">
    <SaidLines :lines="list.items.value" :judge="judge" />
    <MoreButton :list="list" word="Show later ones" />
  </div>
  <form class="say" @submit.prevent="say">
    <BFormTextarea v-model="text" rows="2" maxlength="4000" placeholder="Write to them" aria-label="What is said to them" @keydown="key" />
    <BButton type="submit" variant="primary" :disabled="saying || !text.trim()">Send</BButton>
  </form>
  <form class="say" @submit.prevent="emit('back', word)">
    <input
      v-model="word"
      class="form-control form-control-sm"
      maxlength="2000"
      placeholder="what the workflow should know"
      aria-label="A word for the workflow" />
    <BButton type="submit" variant="outline-primary" size="sm" :disabled="busy">Hand back</BButton>
  </form>
  <ProblemNote v-if="problem" :problem="problem" />
</template>

<style scoped>
.talk {
  max-height: 22rem;
  overflow: auto;
  margin-bottom: 0.6rem;
}
.say {
  display: flex;
  gap: 0.5rem;
  align-items: flex-end;
  max-width: 44rem;
  margin-bottom: 0.5rem;
}
.say .btn {
  white-space: nowrap;
}
</style>
