<script setup lang="ts">
import { BButton, BFormInput } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { api, data, expired } from '../api/client'
import ProblemNote from '../components/ProblemNote.vue'
import { known } from '../lib/session'

const name = ref('owner')
const password = ref('')
const problem = ref<Error | null>(null)
const busy = ref(false)

async function signIn(): Promise<void> {
  busy.value = true
  problem.value = null
  try {
    known(await data(api.POST('/api/v1/session', { body: { name: name.value, password: password.value } })))
    expired.value = false
  } catch (error) {
    problem.value = error as Error
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <main class="sign-in">
    <h1>Oak Relay</h1>
    <p class="quiet">Sign in to write, run and watch workflows.</p>
    <form @submit.prevent="signIn">
      <label for="name">Name</label>
      <BFormInput id="name" v-model="name" autocomplete="username" required />
      <label for="password">Password</label>
      <BFormInput id="password" v-model="password" type="password" autocomplete="current-password" required autofocus />
      <ProblemNote v-if="problem" :problem="problem" />
      <BButton type="submit" variant="primary" :disabled="busy">Sign in</BButton>
    </form>
    <p class="quiet small">
      The password was printed when the service first started. A new one is made on its machine: <code>oak-relay password reset</code>
    </p>
  </main>
</template>

<style scoped>
.sign-in {
  max-width: 24rem;
  margin: 12vh auto 0;
}
form {
  display: grid;
  gap: 0.4rem;
  margin: 1.2rem 0;
}
form .btn {
  margin-top: 0.8rem;
  justify-self: start;
}
label {
  margin-top: 0.4rem;
}
</style>
