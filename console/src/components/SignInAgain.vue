<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { BButton, BFormInput, BModal } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { api, data, expired } from '../api/client'
import { known, nobody } from '../lib/session'
import ProblemNote from './ProblemNote.vue'

/** Asks for the password where a session is over; what is on the page stays. */
const props = defineProps<{ name: string }>()
const client = useQueryClient()
const password = ref('')
const problem = ref<Error | null>(null)
async function signIn(): Promise<void> {
  problem.value = null
  try {
    const done = await data(api.POST('/api/v1/session', { body: { name: props.name, password: password.value } }))
    known(done)
    expired.value = false
    await client.invalidateQueries()
  } catch (error) {
    problem.value = error as Error
  }
}
function leave(): void {
  expired.value = false
  nobody()
}
</script>

<template>
  <BModal
    title-tag="h2"
    title-class="fs-5"
    :model-value="true"
    title="Your session is over"
    no-footer
    no-close-on-backdrop
    no-close-on-esc
    hide-header-close>
    <p>What you have written is still here. Sign in again, and go on.</p>
    <form @submit.prevent="signIn">
      <label for="again">Password of {{ name }}</label>
      <BFormInput id="again" v-model="password" type="password" autocomplete="current-password" required />
      <ProblemNote v-if="problem" :problem="problem" class="mt-2" />
      <div class="mt-3">
        <BButton type="submit" variant="primary">Sign in</BButton> <BButton variant="link" @click="leave">Somebody else</BButton>
      </div>
    </form>
  </BModal>
</template>
