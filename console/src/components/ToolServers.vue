<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { useAct } from '../lib/act'
import LoadingLines from './LoadingLines.vue'
import ProblemNote from './ProblemNote.vue'
import { every } from '../lib/lists'
import { sure } from '../lib/sure'

interface Config {
  url: string | null
  command: string[] | null
  credential: string | null
}

defineProps<{ credentials: { value: string; text: string }[] }>()
const {
  data: stored,
  error: failure,
  isPending,
} = useQuery({ queryKey: ['servers'], queryFn: () => every((query) => data(api.GET('/api/v1/servers', { params: { query } }))) })
const config = (one: Schemas['ServerOut']) => one.config as unknown as Config
const adding = ref(false)
const form = reactive({ name: '', url: '', credential: '' })
const { act, busy, problem } = useAct('servers')
const tests = reactive<Record<string, Schemas['ServerTestOut']>>({})
const testOf = (name: string): Schemas['ServerTestOut'] | undefined => tests[name]

async function connect(name: string): Promise<void> {
  tests[name] = await data(api.POST('/api/v1/servers/{name}/test', { params: { path: { name } } }))
}
const test = (name: string) => act(name, () => connect(name))
const store = () =>
  act('add', async () => {
    const { name, url, credential } = form
    await data(api.PUT('/api/v1/servers/{name}', { params: { path: { name } }, body: { url, credential: credential || null } }))
    Object.assign(form, { name: '', url: '', credential: '' })
    adding.value = false
    await connect(name)
  })
async function remove(name: string): Promise<void> {
  if (await sure(`Forget the tool server ${name}?`, 'Agents that use it will fail.', 'Forget it')) {
    void act(name, () => data(api.DELETE('/api/v1/servers/{name}', { params: { path: { name } } })))
  }
}
</script>

<template>
  <section aria-label="Tool servers">
    <div class="head">
      <h2>Tool servers</h2>
      <p class="quiet">Servers of the Model Context Protocol whose tools agents may use.</p>
      <BButton v-if="!adding" size="sm" variant="outline-primary" @click="adding = true">Add tool server</BButton>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <form v-if="adding" class="add" @submit.prevent="store">
      <label>Name of the server <BFormInput v-model="form.name" required placeholder="weather-station" /></label>
      <label>Address <BFormInput v-model="form.url" type="url" required placeholder="https://…/mcp" /></label>
      <label>Its credential <BFormSelect v-model="form.credential" :options="credentials" /></label>
      <div>
        <BButton type="submit" variant="primary" :disabled="busy === 'add'">{{ busy === 'add' ? 'Connecting…' : 'Store and connect' }}</BButton>
        <BButton variant="link" @click="adding = false">Not now</BButton>
      </div>
    </form>
    <ProblemNote v-if="failure" :problem="failure" />
    <LoadingLines v-else-if="isPending" />
    <p v-else-if="!stored?.length && !adding" class="quiet">None. An agent uses one with <span class="mono">server: NAME</span> among its tools.</p>
    <table v-else-if="stored?.length" class="table">
      <thead>
        <tr>
          <th>Name</th>
          <th>Where</th>
          <th class="wide-only">Credential</th>
          <th><span class="visually-hidden">What may be done</span></th>
        </tr>
      </thead>
      <tbody>
        <template v-for="one in stored" :key="one.name">
          <tr>
            <td class="mono">{{ one.name }}</td>
            <td class="mono where">{{ config(one).url ?? config(one).command?.join(' ') }}</td>
            <td class="wide-only mono">{{ config(one).credential ?? '–' }}</td>
            <td class="num">
              <BButton size="sm" variant="outline-primary" :disabled="busy === one.name" @click="test(one.name)">{{
                busy === one.name ? 'Connecting…' : 'Test'
              }}</BButton>
              <BButton size="sm" variant="link" class="text-danger" @click="remove(one.name)">Remove</BButton>
            </td>
          </tr>
          <tr v-if="testOf(one.name)">
            <td colspan="4">
              <div role="status">
                <p>
                  <strong :style="{ color: `var(--relay-${testOf(one.name)!.ok ? 'succeeded' : 'failed'})` }">{{
                    testOf(one.name)!.ok ? '✓' : '✗'
                  }}</strong>
                  {{ testOf(one.name)!.sentence }}
                </p>
                <p v-if="testOf(one.name)!.fix">What to do: {{ testOf(one.name)!.fix }}</p>
                <dl v-if="testOf(one.name)!.tools.length">
                  <template v-for="tool in testOf(one.name)!.tools" :key="String(tool.name)"
                    ><dt class="mono">{{ tool.name }}</dt>
                    <dd>
                      {{ tool.description }}
                      <div v-if="tool.wrong" class="text-danger">Agents are not offered it: {{ tool.wrong }}</div>
                    </dd></template
                  >
                </dl>
              </div>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
section {
  margin-top: 2rem;
}
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.5rem 1rem;
  margin-bottom: 0.75rem;
}
.head h2,
.head p {
  margin: 0;
}
.head p {
  margin-right: auto;
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
.where {
  overflow-wrap: anywhere;
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 0.2rem 1rem;
  margin: 0;
}
dd {
  margin: 0;
}
p {
  margin-bottom: 0.4rem;
}
</style>
