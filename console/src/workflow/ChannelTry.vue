<script setup lang="ts">
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { moment } from '../lib/times'

/** Tries of a channel before any workflow with it is on: what it reads in something that was sent, and how it sends. */
const props = defineProps<{ channel: string; given: Record<string, unknown> }>()
const body = ref('')
const read = ref<Schemas['CameOut'][] | null>(null)
const chat = ref('')
const text = ref('')
const sent = ref<Schemas['ChannelSentOut'] | null>(null)
const problem = ref<Error | null>(null)
const busy = ref(false)
async function tried(what: () => Promise<void>): Promise<void> {
  problem.value = null
  busy.value = true
  try {
    await what()
  } catch (error) {
    problem.value = error as Error
  } finally {
    busy.value = false
  }
}
const channel = () => ({ channel: props.channel, with: props.given })
const look = () =>
  tried(async () => {
    read.value = null
    const type = /^\s*[[{]/.test(body.value) ? 'application/json' : 'application/x-www-form-urlencoded'
    read.value = (await data(api.POST('/api/v1/channels/read', { body: { ...channel(), body: body.value, type } }))).messages
    if (!chat.value) chat.value = read.value[0]?.chat ?? ''
  })
const send = () =>
  tried(async () => {
    sent.value = null
    sent.value = await data(api.POST('/api/v1/channels/send', { body: { ...channel(), chat: chat.value, text: text.value, buttons: [] } }))
  })
</script>

<template>
  <details>
    <summary>Try it</summary>
    <label class="d-block mt-2">
      Something that the service sent, as it came
      <textarea v-model="body" class="form-control mono" rows="4" maxlength="500000" spellcheck="false" />
    </label>
    <button type="button" class="btn btn-sm btn-outline-primary mt-1" :disabled="busy || !body.trim()" @click="look">See what is read</button>
    <p v-if="read && !read.length" role="status" class="quiet">No message is in it: nothing would begin.</p>
    <ul v-if="read?.length" class="read" aria-label="What is read">
      <li v-for="one in read" :key="one.id">
        <strong>{{ one.name || one.person }}</strong> in <span class="mono">{{ one.chat }}</span>: <q v-if="one.text">{{ one.text }}</q>
        <span v-if="one.choice">presses {{ one.choice }}</span> <span v-for="file in one.files" :key="file"> {{ file }}</span>
        <span v-if="one.unread">a {{ one.unread }}, which cannot be read</span>
        <span class="quiet">
          id {{ one.id }}<template v-if="one.at">, {{ moment(one.at) }}</template></span
        >
      </li>
    </ul>
    <div class="send mt-2">
      <label>To <input v-model="chat" class="form-control form-control-sm" maxlength="300" aria-label="To which chat" /></label>
      <label class="words">Say <input v-model="text" class="form-control form-control-sm" maxlength="4000" aria-label="What is sent" /></label>
      <button type="button" class="btn btn-sm btn-outline-primary" :disabled="busy || !chat || !text.trim()" @click="send">Send it really</button>
    </div>
    <p v-if="sent" role="status" :class="sent.ok ? 'text-success-emphasis' : 'text-danger-emphasis'">
      {{ sent.sentence }} <template v-if="sent.id">The service calls it {{ sent.id }}.</template> {{ sent.fix }}
    </p>
    <ProblemNote v-if="problem" :problem="problem" />
  </details>
</template>

<style scoped>
.send {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: end;
}
.words {
  flex: 1 1 12rem;
}
.read {
  padding-left: 1.1rem;
  overflow-wrap: anywhere;
}
</style>
