<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormTextarea } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useAct } from '../lib/act'
import { secretIn } from '../lib/connecting'
import CopyText from './CopyText.vue'
import ProblemNote from './ProblemNote.vue'

/** What to do at an OAuth provider first, and what it hands out, read into the form. */
const emit = defineEmits<{ found: [given: Record<string, unknown>]; scope: [name: string] }>()
const { data: own } = useQuery({
  queryKey: ['provider'],
  queryFn: () => data(api.POST('/api/v1/providers/look', { body: { issuer: '', file: '' } })),
  staleTime: Infinity,
})
const issuer = ref('')
const file = ref('')
const found = ref<Schemas['ProviderOut'] | null>(null)
const { act, busy, problem } = useAct('provider-found')
const FIELDS = ['issuer', 'authorize_url', 'token_url', 'revoke_url', 'account_url', 'client_id', 'way', 'named_issuer'] as const

const read = () =>
  act('read', async () => {
    const told = await data(api.POST('/api/v1/providers/look', { body: { issuer: issuer.value.trim(), file: file.value } }))
    found.value = told
    const given: Record<string, unknown> = Object.fromEntries(FIELDS.filter((name) => told[name]).map((name) => [name, told[name]]))
    const secret = secretIn(file.value)
    emit('found', { ...given, ...(secret ? { secret } : {}) })
  })
async function take(event: Event): Promise<void> {
  const [chosen] = (event.target as HTMLInputElement).files ?? []
  if (!chosen) return
  file.value = chosen.size > 50_000 ? '' : await chosen.text()
  if (file.value) await read()
}
</script>

<template>
  <section class="look" aria-label="At the provider">
    <ol>
      <li>
        With the provider, register an app for a web server, with this redirect address:<br />
        <CopyText v-if="own" :text="own.redirect" />
      </li>
      <li>Enable there what your workflows are to do: its interfaces, and the scopes that belong to them.</li>
      <li>
        Take what it hands out, as a file
        <input type="file" class="form-control form-control-sm" accept=".json,application/json" aria-label="Client file" @change="take" />
        <details>
          <summary>or as text, or find its addresses by its issuer</summary>
          <BFormTextarea
            v-model="file"
            rows="3"
            class="mono"
            aria-label="Client file as text"
            placeholder='{"client_id": "…", "client_secret": "…"}' />
          <div class="by">
            <BFormInput v-model="issuer" type="url" aria-label="Issuer" placeholder="https://accounts.example" />
            <BButton variant="outline-primary" :disabled="busy === 'read' || !(issuer.trim() || file.trim())" @click="read">{{
              busy === 'read' ? 'Reading…' : 'Read'
            }}</BButton>
          </div>
        </details>
      </li>
    </ol>
    <ProblemNote v-if="problem" :problem="problem" />
    <div v-if="found" role="status">
      <p v-if="found.registered === false" class="text-danger">
        This file does not name the redirect address above: add it at the provider, or it will refuse to come back.
      </p>
      <p v-else>Read. What is missing still is marked below.</p>
      <details v-if="found.scopes?.length">
        <summary>Scopes that this provider knows: {{ found.scopes.length }}</summary>
        <p>
          <button
            v-for="one in found.scopes"
            :key="one"
            type="button"
            class="btn btn-link btn-sm mono"
            :title="`Ask for ${one}`"
            @click="emit('scope', one)">
            {{ one }}
          </button>
        </p>
      </details>
    </div>
  </section>
</template>

<style scoped>
.look {
  grid-column: 1 / -1;
}
ol {
  padding-left: 1.2rem;
}
li {
  margin-bottom: 0.5rem;
}
input[type='file'] {
  max-width: 24rem;
}
.by {
  display: flex;
  gap: 0.5rem;
  margin-top: 0.4rem;
}
p {
  margin-bottom: 0.3rem;
}
</style>
