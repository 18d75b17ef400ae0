<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import CredentialDetail from '../components/CredentialDetail.vue'
import CredentialForm from '../components/CredentialForm.vue'
import ConnectionsNav from '../components/ConnectionsNav.vue'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useAct } from '../lib/act'
import { connect } from '../lib/connecting'
import { moment } from '../lib/times'
import { every } from '../lib/lists'
import { sure } from '../lib/sure'

type Credential = Schemas['CredentialOut']
const {
  data: stored,
  error: failure,
  isPending,
} = useQuery({ queryKey: ['credentials'], queryFn: () => every((query) => data(api.GET('/api/v1/credentials', { params: { query } }))) })
const { data: kinds } = useQuery({
  queryKey: ['credential-kinds'],
  queryFn: () => every((query) => data(api.GET('/api/v1/credential-kinds', { params: { query } }))),
  staleTime: Infinity,
})
const client = useQueryClient()
const route = useRoute()
const editing = ref<Credential | 'new' | null>(null)
const { act, busy, problem } = useAct('credentials')
const open = ref(String(route.query.show ?? ''))
const one = (name: string) => ({ params: { path: { name } } })
const kindText = (name: string) => kinds.value?.find((kind) => kind.name === name)?.title ?? name

async function done(credential: Credential): Promise<void> {
  editing.value = null
  await client.invalidateQueries({ queryKey: ['credentials'] })
  if (credential.connection?.state === 'none') await act(credential.name, () => connect(credential.name))
  else if (credential.config.test_url) await test(credential.name)
}
const test = (name: string) =>
  act(name, async () => {
    await data(api.POST('/api/v1/credentials/{name}/test', one(name)))
    open.value = name
  })
const remove = (name: string) =>
  act(name, async () => {
    const use = await data(api.GET('/api/v1/credentials/{name}/use', one(name)))
    if (await sure(`Forget the credential ${name}?`, `Of what uses it: ${use.sentence}`, 'Forget it'))
      await data(api.DELETE('/api/v1/credentials/{name}', { params: { path: { name }, query: { anyway: true } } }))
  })
async function disconnect(name: string): Promise<void> {
  if (await sure(`Disconnect ${name}?`, 'Its provider is told, and runs that need it wait until it is connected again.', 'Disconnect'))
    void act(name, () => data(api.DELETE('/api/v1/credentials/{name}/consent', one(name))))
}

/** How a credential stands, in a few words, with the colour of a state. */
function standing(of: Credential): [string, string] {
  const state = of.connection?.state
  const test = of.last_test as Schemas['TestOut'] | null
  if (state === 'none') return ['not connected', 'waiting']
  if (state === 'reconnect') return ['✗ needs reconnecting', 'failed']
  if (test && test.tried !== false && !test.ok) return of.last_worked_at ? ['the test fails, calls work', 'waiting'] : ['✗ does not work', 'failed']
  if (state === 'ready' && of.connection?.since)
    return [`✓ connected${of.connection.account ? ` to ${of.connection.account}` : ''}`, of.connection.lacking?.length ? 'waiting' : 'succeeded']
  if (!test) return ['not tested yet', 'quiet']
  return test.tried === false ? ['not tried', 'quiet'] : ['✓ works', 'succeeded']
}
</script>

<template>
  <ConnectionsNav />
  <div class="head">
    <h1>Credentials</h1>
    <p class="quiet">Secrets go in and are used; they never come out again.</p>
    <BButton v-if="!editing" variant="primary" @click="editing = 'new'">Add credential</BButton>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <CredentialForm
    v-if="editing"
    :key="editing === 'new' ? '' : editing.name"
    :of="editing === 'new' ? undefined : editing"
    @done="done"
    @leave="editing = null" />
  <ProblemNote v-if="failure" :problem="failure" />
  <LoadingLines v-else-if="isPending" />
  <p v-else-if="!stored?.length">None yet. Add one for each service your workflows call, and one for each webhook that is signed.</p>
  <table v-else class="table">
    <thead>
      <tr>
        <th>Name</th>
        <th class="wide-only">Kind</th>
        <th class="wide-only">Sent to</th>
        <th class="wide-only">Last used</th>
        <th>How it stands</th>
        <th><span class="visually-hidden">What may be done</span></th>
      </tr>
    </thead>
    <tbody>
      <template v-for="each in stored" :key="each.name">
        <tr>
          <td class="mono">{{ each.name }}</td>
          <td class="wide-only">{{ kindText(each.kind) }}</td>
          <td class="wide-only">{{ each.places.join(', ') || 'nobody' }}</td>
          <td class="wide-only" :title="each.last_used_at ?? ''">{{ moment(each.last_used_at) }}</td>
          <td>
            <button
              type="button"
              class="btn btn-link p-0 text-start"
              :style="{ color: `var(--relay-${standing(each)[1]})` }"
              :aria-expanded="open === each.name"
              @click="open = open === each.name ? '' : each.name">
              {{ standing(each)[0] }}
            </button>
          </td>
          <td class="num acts">
            <BButton
              v-if="each.connection && each.connection.state !== 'ready'"
              size="sm"
              variant="primary"
              :disabled="busy === each.name"
              @click="act(each.name, () => connect(each.name))"
              >{{ each.connection.state === 'none' ? 'Connect' : 'Connect again' }}</BButton
            >
            <BButton v-else size="sm" variant="outline-primary" :disabled="busy === each.name" @click="test(each.name)">{{
              busy === each.name ? 'Testing…' : 'Test'
            }}</BButton>
            <BButton size="sm" variant="link" @click="editing = each">Change</BButton>
            <BButton size="sm" variant="link" class="text-danger" @click="remove(each.name)">Remove</BButton>
          </td>
        </tr>
        <tr v-if="open === each.name">
          <td colspan="6">
            <CredentialDetail :of="each" />
            <p v-if="each.connection?.since && each.config.grant === 'code'" class="mb-0">
              <BButton size="sm" variant="outline-primary" @click="act(each.name, () => connect(each.name))">Connect again</BButton>
              <BButton size="sm" variant="link" class="text-danger" @click="disconnect(each.name)">Disconnect</BButton>
              <span class="quiet">Connecting again asks for all scopes that are needed by now.</span>
            </p>
          </td>
        </tr>
      </template>
    </tbody>
  </table>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.5rem 1rem;
  margin-bottom: 1rem;
}
.head p {
  margin: 0 auto 0 0;
}
@media (max-width: 600px) {
  .acts {
    white-space: normal;
  }
}
</style>
