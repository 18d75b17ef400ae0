<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'

/** Where an OAuth provider sends the browser back to. What it gave counts once, and leaves the address at once. */
const route = useRoute()
const router = useRouter()
const done = ref<Schemas['ConsentedOut'] | null>(null)
const problem = ref<Error | null>(null)

onMounted(async () => {
  const one = (name: string) => {
    const given = route.query[name]
    return typeof given === 'string' ? given : null
  }
  const given = { state: one('state') ?? '', code: one('code'), iss: one('iss'), error: one('error'), error_description: one('error_description') }
  await router.replace('/connect/back')
  if (!given.state) {
    problem.value = new Error('This page is where providers send you back to. To connect a credential, begin on the page Credentials.')
    return
  }
  try {
    done.value = await data(api.POST('/api/v1/consents', { body: given }))
  } catch (error) {
    problem.value = error as Error
  }
})
</script>

<template>
  <h1>Connecting</h1>
  <ProblemNote v-if="problem" :problem="problem" />
  <LoadingLines v-else-if="!done" />
  <template v-else>
    <p role="status">{{ done.sentence }}</p>
    <p v-if="done.waiting">{{ done.waiting }} {{ done.waiting === 1 ? 'run that waited for it goes' : 'runs that waited for it go' }} on.</p>
  </template>
  <RouterLink v-if="done || problem" :to="{ path: '/credentials', query: done ? { show: done.credential.name } : {} }"
    >Go to the credentials</RouterLink
  >
</template>
