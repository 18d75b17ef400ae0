<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import SchemaForm from '../components/SchemaForm.vue'
import TestResult from '../components/TestResult.vue'
import { useAct } from '../lib/act'
import { moment } from '../lib/format'
import { every } from '../lib/lists'
import type { Schema } from '../workflow/fields'

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

const adding = ref(false)
const empty = { name: '', kind: 'bearer', secret: '', hosts: '', test_url: '' }
const form = reactive({ ...empty })
const own = ref<Record<string, unknown>>({})
const { act, busy, problem } = useAct('credentials')
const open = ref('')
const common = ['kind', 'rate', 'secret', 'hosts', 'test_url']
const choices = computed(() => (kinds.value ?? []).map((kind) => ({ value: kind.name, text: kindText(kind.name) })))
const chosen = computed(() => kinds.value?.find((kind) => kind.name === form.kind))

/** What a kind has of its own. */
const ownSchema = computed<Schema>(() => {
  const schema = (chosen.value?.input ?? {}) as Schema
  return { ...schema, properties: Object.fromEntries(Object.entries(schema.properties ?? {}).filter(([name]) => !common.includes(name))) }
})

function store(): Promise<void> {
  const { name, kind, secret, hosts, test_url } = form
  const body: Record<string, unknown> = {
    ...own.value,
    kind,
    ...(secret ? { secret } : {}),
    ...(changing.value && rate.value ? { rate: rate.value } : {}),
    test_url,
    hosts: hosts.split(/[\s,]+/).filter(Boolean),
  }
  return act('add', async () => {
    await data(api.PUT('/api/v1/credentials/{name}', { params: { path: { name } }, body }))
    Object.assign(form, empty)
    own.value = {}
    adding.value = false
    if (test_url) await test(name)
  })
}

const rate = ref<unknown>(null)
const changing = computed(() => stored.value?.some((one) => one.name === form.name && one.kind === form.kind) ?? false)
function change(one: Schemas['CredentialOut']): void {
  const config = one.config as Record<string, unknown>
  Object.assign(form, {
    ...empty,
    name: one.name,
    kind: one.kind,
    hosts: ((config.hosts as string[]) ?? []).join(', '),
    test_url: (config.test_url as string) ?? '',
  })
  own.value = Object.fromEntries(Object.entries(config).filter(([key, value]) => !common.includes(key) && value != null))
  rate.value = config.rate ?? null
  adding.value = true
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
const kindOf = (name: string) => kinds.value?.find((kind) => kind.name === name)
const kindText = (name: string) => kindOf(name)?.title ?? name
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
    <label>Kind <BFormSelect v-model="form.kind" :options="choices" @update:model-value="own = {}" /></label>
    <SchemaForm :schema="ownSchema" :value="own" @change="(given) => (own = given)" />
    <label
      >Secret
      <BFormInput
        v-model="form.secret"
        type="password"
        :required="!changing"
        minlength="8"
        autocomplete="new-password"
        :placeholder="changing ? 'stays as it is' : ''"
    /></label>
    <label v-if="chosen?.sent ?? true"
      >Only sent to <BFormInput v-model="form.hosts" placeholder="office.example" aria-describedby="hosts-hint" /><small id="hosts-hint" class="quiet"
        >Hosts, with https. A port, and http:// where that is meant: http://ledger.internal:8080. Empty: the host of the address to test with.</small
      ></label
    >
    <label v-if="chosen?.sent ?? true">Address to test it on <BFormInput v-model="form.test_url" type="url" placeholder="https://…/me" /></label>
    <div>
      <BButton type="submit" variant="primary" :disabled="busy === 'add'">{{ form.test_url ? 'Store and test' : 'Store' }}</BButton>
      <BButton variant="link" @click="adding = false">Not now</BButton>
    </div>
  </form>
  <ProblemNote v-if="failure" :problem="failure" />
  <LoadingLines v-else-if="isPending" />
  <p v-else-if="!stored?.length">None yet. Add one for each service your workflows call, and one for each webhook that is signed.</p>
  <table v-else class="table">
    <thead>
      <tr>
        <th>Name</th>
        <th>Kind</th>
        <th class="wide-only">Sent to</th>
        <th class="wide-only">Last used</th>
        <th>Last test</th>
        <th><span class="visually-hidden">What may be done</span></th>
      </tr>
    </thead>
    <tbody>
      <template v-for="one in stored" :key="one.name">
        <tr>
          <td class="mono">{{ one.name }}</td>
          <td>{{ kindText(one.kind) }}</td>
          <td class="wide-only">{{ !one.sent ? 'nobody' : ((one.config.hosts as string[]) ?? []).join(', ') || 'nobody' }}</td>
          <td class="wide-only" :title="one.last_used_at ?? ''">{{ moment(one.last_used_at) }}</td>
          <td>
            <button
              v-if="lastTest(one)"
              type="button"
              class="btn btn-link p-0"
              :style="{
                color: `var(--relay-${lastTest(one)!.tried === false ? 'quiet' : lastTest(one)!.ok ? 'succeeded' : one.last_worked_at ? 'waiting' : 'failed'})`,
              }"
              @click="open = open === one.name ? '' : one.name">
              {{
                lastTest(one)!.tried === false
                  ? 'not tried'
                  : lastTest(one)!.ok
                    ? '✓ works'
                    : one.last_worked_at
                      ? 'the test fails, calls work'
                      : '✗ does not work'
              }}
            </button>
            <span v-else class="quiet">never</span>
          </td>
          <td class="num acts">
            <BButton size="sm" variant="outline-primary" :disabled="busy === one.name" @click="test(one.name)">{{
              busy === one.name ? 'Testing…' : 'Test'
            }}</BButton>
            <BButton size="sm" variant="link" @click="change(one)">Change</BButton>
            <BButton size="sm" variant="link" class="text-danger" @click="remove(one.name)">Remove</BButton>
          </td>
        </tr>
        <tr v-if="open === one.name && lastTest(one)">
          <td colspan="6"><TestResult :test="lastTest(one)!" /></td>
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
.add {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr));
  gap: 0.75rem 1rem;
  align-items: start;
  padding: 1rem;
  background: var(--bs-tertiary-bg);
  margin-bottom: 1rem;
}
.add > div {
  align-self: end;
}
.add :deep(.field) {
  align-self: start;
  margin: 0;
}
.add :deep(.field label) {
  font-weight: 400;
}
.add :deep(.field .form-control) {
  font-size: 1rem;
  padding: 0.375rem 0.75rem;
  min-height: 2.4rem;
}
@media (max-width: 600px) {
  .acts {
    white-space: normal;
  }
}
</style>
