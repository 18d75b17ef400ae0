<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useQueryClient } from '@tanstack/vue-query'
import { api, data } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { guess, jsonPath, leaves, messageOf, PARTS, readsOf, sendOf, within } from './example'

/** Sets up a channel by what a service was seen to send, and by the request that sends to it. */
const emit = defineEmits<{ made: [given: { reads: Record<string, string>; send: unknown }] }>()
const client = useQueryClient()
const seen = ref('')
const curl = ref('')
const text = ref('')
const chosen = ref<Record<string, string>>({})
const fields = ref<Record<string, unknown> | null>(null)
const places = ref({ chat: '', text: '' })
const problem = ref<Error | null>(null)

const body = computed<unknown>(() => {
  try {
    return JSON.parse(seen.value) as unknown
  } catch {
    return undefined
  }
})
const all = computed(() => (body.value === undefined ? [] : leaves(body.value)))
const words = computed(() => all.value.find((one) => jsonPath(one.keys) === text.value))
const message = computed(() => (words.value ? messageOf(words.value) : []))
const inside = computed(() => within(all.value, message.value))
watch(all, (found) => {
  const likely = guess('text', found)
  text.value = likely ? jsonPath(likely.keys) : ''
})
watch(inside, (found) => {
  const next: Record<string, string> = {}
  for (const [part] of PARTS.slice(1)) {
    const likely = guess(part, found)
    if (likely) next[part] = jsonPath(likely.keys)
  }
  chosen.value = next
})
const brief = (value: unknown) => String(value).slice(0, 60)
const sent = computed(() => (fields.value ? leaves(fields.value) : []))
const chat = computed(() => String(inside.value.find((one) => jsonPath(one.keys) === chosen.value.chat)?.value ?? ''))
const ready = computed(() => Boolean(text.value && chosen.value.chat && fields.value && places.value.text))

/** Read the request; what proves who sends becomes a credential. */
async function read(): Promise<void> {
  problem.value = null
  try {
    const made = await data(api.POST('/api/v1/curl', { body: { text: curl.value } }))
    fields.value = made.fields as Record<string, unknown>
    const find = (value: string | undefined, sound: RegExp) => {
      const one = sent.value.find((leaf) => (value && String(leaf.value) === value) || sound.test(String(leaf.keys.at(-1))))
      return one ? jsonPath(one.keys) : ''
    }
    places.value = {
      chat: find(chat.value, /^(to|chat.*|recipient|room|channel)$/i),
      text: find(String(words.value?.value ?? ''), /^(text|body|message|content)$/i),
    }
    await client.invalidateQueries({ queryKey: ['credentials'] })
  } catch (error) {
    problem.value = error as Error
  }
}
function use(): void {
  const last = jsonPath(words.value!.keys.slice(message.value.length))
  emit('made', { reads: readsOf(message.value, { text: last, ...chosen.value }), send: sendOf(fields.value, places.value, chat.value) })
}
</script>

<template>
  <details class="mb-3">
    <summary>Set it up by example</summary>
    <label class="d-block mt-2">
      Something that the service sent here (JSON)
      <textarea v-model="seen" class="form-control mono" rows="5" maxlength="200000" spellcheck="false" />
    </label>
    <p v-if="seen && body === undefined" class="warned">This is no JSON yet.</p>
    <p v-else-if="seen && !all.length" class="warned">Nothing is in it that could be a message.</p>
    <template v-if="all.length">
      <label class="d-block mt-2">
        {{ PARTS[0]![1] }}
        <select v-model="text" :aria-label="PARTS[0]![1]" class="form-select form-select-sm">
          <option v-for="one in all" :key="jsonPath(one.keys)" :value="jsonPath(one.keys)">{{ brief(one.value) }} ({{ jsonPath(one.keys) }})</option>
        </select>
      </label>
      <label v-for="[part, said] in text ? PARTS.slice(1) : []" :key="part" class="d-block mt-1">
        {{ said }}
        <select
          class="form-select form-select-sm"
          :aria-label="said"
          :value="chosen[part] ?? ''"
          @change="chosen = { ...chosen, [part]: ($event.target as HTMLSelectElement).value }">
          <option value="">{{ part === 'chat' ? 'choose' : 'it is not told' }}</option>
          <option v-for="one in inside" :key="jsonPath(one.keys)" :value="jsonPath(one.keys)">
            {{ brief(one.value) }} ({{ jsonPath(one.keys) }})
          </option>
        </select>
      </label>
    </template>
    <label class="d-block mt-2">
      The request that sends a message to it, as a curl command
      <textarea v-model="curl" class="form-control mono" rows="3" maxlength="100000" spellcheck="false" />
    </label>
    <button type="button" class="btn btn-sm btn-outline-primary mt-1" :disabled="!curl.trim()" @click="read">Read it</button>
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="fields">
      <label v-for="[part, said] in PARTS.slice(0, 2)" :key="part" class="d-block mt-1">
        {{ said }}, in the request
        <select v-model="places[part as 'chat' | 'text']" :aria-label="`${said}, in the request`" class="form-select form-select-sm">
          <option value="">{{ part === 'chat' ? 'in its address' : 'choose' }}</option>
          <option v-for="one in sent" :key="jsonPath(one.keys)" :value="jsonPath(one.keys)">{{ brief(one.value) }} ({{ jsonPath(one.keys) }})</option>
        </select>
      </label>
      <p v-if="fields.credential" class="quiet">Its secret is kept as the credential {{ fields.credential }}.</p>
    </template>
    <button type="button" class="btn btn-sm btn-primary mt-2" :disabled="!ready" @click="use">Use this</button>
  </details>
</template>
