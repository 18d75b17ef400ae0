<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TestResult from '../components/TestResult.vue'
import { useAct } from '../lib/act'
import { moment } from '../lib/format'

const { data: stored, error: failure, isPending } = useQuery({ queryKey: ['credentials'], queryFn: () => data(api.GET('/api/v1/credentials')) })

const adding = ref(false)
const empty = { name: '', kind: 'bearer', secret: '', header: 'X-API-Key', user: '', hosts: '', test_url: '' }
const form = reactive({ ...empty })
const { act, busy, problem } = useAct('credentials')
const open = ref('')
const kinds = [
  { value: 'bearer', text: 'bearer token' },
  { value: 'header', text: 'key in a header' },
  { value: 'basic', text: 'user and password' },
  { value: 'signing', text: 'signing secret, for webhooks in' },
]

function store(): Promise<void> {
  const { name, kind, secret, header, user, hosts, test_url } = form
  const body: Record<string, unknown> = { kind, secret, test_url, hosts: hosts.split(/[\s,]+/).filter(Boolean) }
  if (kind === 'header') body.header = header
  if (kind === 'basic') body.user = user
  return act('add', async () => {
    await data(api.PUT('/api/v1/credentials/{name}', { params: { path: { name } }, body }))
    Object.assign(form, empty)
    adding.value = false
    if (test_url) await test(name)
  })
}

const test = (name: string) =>
  act(name, async () => {
    await data(api.POST('/api/v1/credentials/{name}/test', { params: { path: { name } } }))
    open.value = name
  })

function remove(name: string): void {
  if (window.confirm(`Forget the credential ${name}? Workflows that name it will fail.`)) {
    void act(name, () => data(api.DELETE('/api/v1/credentials/{name}', { params: { path: { name } } })))
  }
}
const kindText = (kind: string) => kinds.find((k) => k.value === kind)?.text ?? kind
const lastTest = (one: Schemas['CredentialOut']) => one.last_test as Schemas['TestOut'] | null
</script>

<template>
  <div class="head">
    <h1>Credentials</h1>
    <p class="quiet">Secrets go in and are used; they never come out again.</p>
    <BButton v-if="!adding" variant="primary" @click="adding = true">Add credential</BButton>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <form v-if="adding" class="add" @submit.prevent="store">
    <label>Name <BFormInput v-model="form.name" required pattern="[A-Za-z0-9_\-]+" placeholder="office" /></label>
    <label>Kind <BFormSelect v-model="form.kind" :options="kinds" /></label>
    <label v-if="form.kind === 'header'">Header <BFormInput v-model="form.header" required /></label>
    <label v-if="form.kind === 'basic'">User <BFormInput v-model="form.user" required autocomplete="off" /></label>
    <label>Secret <BFormInput v-model="form.secret" type="password" required minlength="8" autocomplete="new-password" /></label>
    <label v-if="form.kind !== 'signing'">Only sent to these hosts <BFormInput v-model="form.hosts" placeholder="any host" /></label>
    <label v-if="form.kind !== 'signing'">Address to test it on <BFormInput v-model="form.test_url" type="url" placeholder="https://…/me" /></label>
    <div>
      <BButton type="submit" variant="primary" :disabled="busy === 'add'">{{ form.test_url ? 'Store and test' : 'Store' }}</BButton>
      <BButton variant="link" @click="adding = false">Not now</BButton>
    </div>
  </form>
  <ProblemNote v-if="failure" :problem="failure" />
  <LoadingLines v-else-if="isPending" />
  <p v-else-if="!stored?.length">None yet. Add one for each service your workflows call, and one for each webhook that is signed.</p>
  <table v-else class="table">
    <thead><tr><th>Name</th><th>Kind</th><th class="wide-only">Sent to</th><th class="wide-only">Last used</th><th>Last test</th><th /></tr></thead>
    <tbody>
      <template v-for="one in stored" :key="one.name">
        <tr>
          <td class="mono">{{ one.name }}</td>
          <td>{{ kindText(one.kind) }}</td>
          <td class="wide-only">{{ one.kind === 'signing' ? 'nobody' : ((one.config.hosts as string[]) ?? []).join(', ') || 'any host' }}</td>
          <td class="wide-only" :title="one.last_used_at ?? ''">{{ moment(one.last_used_at) }}</td>
          <td>
            <button v-if="lastTest(one)" type="button" class="btn btn-link p-0" :style="{ color: `var(--relay-${lastTest(one)!.ok ? 'succeeded' : 'failed'})` }" @click="open = open === one.name ? '' : one.name">
              {{ lastTest(one)!.ok ? '✓ works' : '✗ does not work' }}
            </button>
            <span v-else class="quiet">never</span>
          </td>
          <td class="num">
            <BButton size="sm" variant="outline-primary" :disabled="busy === one.name" @click="test(one.name)">{{ busy === one.name ? 'Testing…' : 'Test' }}</BButton>
            <BButton size="sm" variant="link" class="text-danger" @click="remove(one.name)">Remove</BButton>
          </td>
        </tr>
        <tr v-if="open === one.name && lastTest(one)"><td colspan="6"><TestResult :test="lastTest(one)!" /></td></tr>
      </template>
    </tbody>
  </table>
</template>

<style scoped>
.head { display: flex; flex-wrap: wrap; align-items: baseline; gap: 0.5rem 1rem; margin-bottom: 1rem; }
.head p { margin: 0 auto 0 0; }
.add { display: grid; grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr)); gap: 0.75rem 1rem; align-items: end; padding: 1rem; background: var(--bs-tertiary-bg); margin-bottom: 1rem; }
</style>
