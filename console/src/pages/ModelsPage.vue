<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { BButton, BFormCheckboxGroup, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, reactive, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import ConnectModel from '../components/ConnectModel.vue'
import ConnectionsNav from '../components/ConnectionsNav.vue'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TestResult from '../components/TestResult.vue'
import ToolServers from '../components/ToolServers.vue'
import { abilities } from '../lib/abilities'
import { useAct } from '../lib/act'
import { every } from '../lib/lists'
import { sure } from '../lib/sure'

interface Config {
  url: string
  model: string
  credential: string | null
  prices: { input: number; cached: number | null; output: number } | null
  temperature: number | null
  max_tokens: number
  timeout: number
  fallbacks: string[]
  extra: Record<string, unknown>
  sources: string[]
  takes: ('images' | 'files')[]
  stream: 'watched' | 'always' | 'never'
  can: Record<string, never>
}

const {
  data: stored,
  error: failure,
  isPending,
} = useQuery({ queryKey: ['models'], queryFn: () => every((query) => data(api.GET('/api/v1/models', { params: { query } }))) })
const credentials = useQuery({
  queryKey: ['credentials'],
  queryFn: () => every((query) => data(api.GET('/api/v1/credentials', { params: { query } }))),
})
const names = computed(() => [
  { value: '', text: 'none' },
  ...(credentials.data.value ?? []).filter((c) => c.sent && c.places.length).map((c) => ({ value: c.name, text: c.name })),
])

const adding = ref(false)
const route = useRoute()
const connecting = ref(route.query.connect === '1')
const cache = useQueryClient()
function connected(name: string, byHand: boolean): void {
  adding.value = byHand
  if (name) void cache.invalidateQueries({ queryKey: ['models'] })
}
const empty = () => ({
  name: '',
  url: '',
  model: '',
  credential: '',
  input: '' as string | number,
  cached: '' as string | number,
  output: '' as string | number,
  max_tokens: 1024,
  timeout: 120,
  fallbacks: '',
  sources: '',
  takes: [] as ('images' | 'files')[],
})
const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)
const form = reactive(empty())
const { act, busy, problem } = useAct('models')
const tests = reactive<Record<string, Schemas['TestOut']>>({})
const testOf = (name: string): Schemas['TestOut'] | undefined => tests[name]
const config = (one: Schemas['AliasOut']) => one.config as unknown as Config

const store = () =>
  act('add', async () => {
    const { name, url, model, credential, input, cached, output, max_tokens, timeout } = form
    const before = stored.value?.find((one) => one.name === name)
    const same = before && config(before).url === url && config(before).model === model
    const kept = before
      ? { extra: config(before).extra, temperature: config(before).temperature, stream: config(before).stream }
      : { stream: 'watched' as const }
    const known = input !== '' || output !== ''
    const prices = known ? { input: Number(input || 0), cached: cached === '' ? null : Number(cached), output: Number(output || 0) } : null
    const body = {
      ...kept,
      can: same ? config(before).can : {},
      url,
      model,
      credential: credential || null,
      prices,
      max_tokens: Number(max_tokens),
      timeout: Number(timeout),
      fallbacks: words(form.fallbacks),
      sources: words(form.sources),
      takes: form.takes,
    }
    await data(api.PUT('/api/v1/models/{name}', { params: { path: { name } }, body }))
    Object.assign(form, empty())
    adding.value = false
    tests[name] = await data(api.POST('/api/v1/models/{name}/test', { params: { path: { name } } }))
  })

const test = (name: string) =>
  act(name, async () => {
    tests[name] = await data(api.POST('/api/v1/models/{name}/test', { params: { path: { name } } }))
  })

function change(one: Schemas['AliasOut']): void {
  const { url, model, credential, prices, max_tokens, timeout, fallbacks, sources, takes } = config(one)
  Object.assign(form, {
    name: one.name,
    url,
    model,
    credential: credential ?? '',
    input: prices?.input ?? '',
    cached: prices?.cached ?? '',
    output: prices?.output ?? '',
    max_tokens,
    timeout,
    fallbacks: fallbacks.join(', '),
    sources: sources.join(' '),
    takes: [...takes],
  })
  adding.value = true
}

async function remove(name: string): Promise<void> {
  if (await sure(`Forget the model alias ${name}?`, 'Workflows that name it will fail.', 'Forget it')) {
    void act(name, () => data(api.DELETE('/api/v1/models/{name}', { params: { path: { name } } })))
  }
}
</script>

<template>
  <ConnectionsNav />
  <div class="head">
    <h1>Models</h1>
    <p class="quiet">Names for models, used by all workflows. Change one here and every workflow follows.</p>
    <BButton v-if="!adding" variant="primary" @click="connecting = true">Connect a model</BButton>
  </div>
  <ConnectModel v-model="connecting" :taken="(stored ?? []).map((one) => one.name)" @connected="connected" />
  <ProblemNote v-if="problem" :problem="problem" />
  <form v-if="adding" class="add" @submit.prevent="store">
    <label>Name <BFormInput v-model="form.name" required placeholder="careful" /></label>
    <label>Server, with its version <BFormInput v-model="form.url" type="url" required placeholder="https://…/v1" /></label>
    <label>Model <BFormInput v-model="form.model" required /></label>
    <label>Credential <BFormSelect v-model="form.credential" :options="names" /></label>
    <label>Money per million tokens read <BFormInput v-model="form.input" type="number" step="any" min="0" placeholder="unknown" /></label>
    <label
      >Money per million read from its cache <BFormInput v-model="form.cached" type="number" step="any" min="0" placeholder="as the others"
    /></label>
    <label>Money per million written <BFormInput v-model="form.output" type="number" step="any" min="0" placeholder="unknown" /></label>
    <label>Longest answer, in tokens <BFormInput v-model="form.max_tokens" type="number" min="1" /></label>
    <label>Longest wait, in seconds <BFormInput v-model="form.timeout" type="number" min="1" /></label>
    <label>Asked instead when it is not available <BFormInput v-model="form.fallbacks" placeholder="other models here, in order" /></label>
    <fieldset>
      <legend>What it takes beside text</legend>
      <BFormCheckboxGroup v-model="form.takes" :options="['images', 'files']" />
    </fieldset>
    <label>Where its replies name sources <BFormInput v-model="form.sources" placeholder="$.citations" /></label>
    <div>
      <BButton type="submit" variant="primary" :disabled="busy === 'add'">{{ busy === 'add' ? 'Testing…' : 'Store and test' }}</BButton>
      <BButton variant="link" @click="adding = false">Not now</BButton>
    </div>
  </form>
  <ProblemNote v-if="failure" :problem="failure" />
  <LoadingLines v-else-if="isPending" />
  <p v-else-if="!stored?.length && !adding">
    None yet. <BButton variant="link" class="p-0 align-baseline" @click="connecting = true">Connect one</BButton>: its address is all it takes, and
    its key if it has one.
  </p>
  <table v-else class="table">
    <thead>
      <tr>
        <th>Name</th>
        <th>Model</th>
        <th class="wide-only">Server</th>
        <th class="wide-only">Credential</th>
        <th class="num wide-only">Read, per million</th>
        <th class="num wide-only">Written</th>
        <th><span class="visually-hidden">What may be done</span></th>
      </tr>
    </thead>
    <tbody>
      <template v-for="one in stored" :key="one.name">
        <tr>
          <td class="mono">{{ one.name }}</td>
          <td>
            {{ config(one).model }}
            <div v-if="abilities(one.config).length" class="quiet can">{{ abilities(one.config).join('; ') }}</div>
          </td>
          <td class="wide-only mono">{{ config(one).url }}</td>
          <td class="wide-only mono">{{ config(one).credential ?? '–' }}</td>
          <td class="num wide-only">{{ config(one).prices?.input ?? 'unknown' }}</td>
          <td class="num wide-only">{{ config(one).prices?.output ?? 'unknown' }}</td>
          <td class="num">
            <BButton size="sm" variant="outline-primary" :disabled="busy === one.name" @click="test(one.name)">{{
              busy === one.name ? 'Testing…' : 'Test'
            }}</BButton>
            <BButton size="sm" variant="link" @click="change(one)">Change</BButton>
            <BButton size="sm" variant="link" class="text-danger" @click="remove(one.name)">Remove</BButton>
          </td>
        </tr>
        <tr v-if="testOf(one.name)">
          <td colspan="7"><TestResult :test="testOf(one.name)!" /></td>
        </tr>
      </template>
    </tbody>
  </table>
  <ToolServers :credentials="names" />
</template>

<style scoped>
legend {
  font-size: inherit;
  margin: 0 0 0.4rem;
}
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.5rem 1rem;
  margin-bottom: 1rem;
}
.can {
  font-size: 0.85rem;
  max-width: 40ch;
}
.head p {
  margin: 0 auto 0 0;
}
.add {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr));
  gap: 0.75rem 1rem;
  align-items: end;
  padding: 1rem;
  background: var(--bs-tertiary-bg);
  margin-bottom: 1rem;
}
</style>
