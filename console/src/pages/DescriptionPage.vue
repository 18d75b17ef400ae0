<script setup lang="ts">
import { BButton, BFormInput, BFormTextarea } from 'bootstrap-vue-next'
import { computed, ref, useTemplateRef, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import ActionAbout from '../components/ActionAbout.vue'
import ConnectionsNav from '../components/ConnectionsNav.vue'
import OperationList from '../components/OperationList.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useAct } from '../lib/act'
import { keep } from '../lib/files'

/** Actions made of a description: it is read, operations are chosen of it, and it gets a name. With a name in the address, of a connector
 * that is there, which then gets a new version. */
const MOST = 400
const route = useRoute()
const router = useRouter()
const there = computed(() => String(route.query.name ?? ''))
const source = ref(String(route.query.source ?? ''))
const text = ref('')
const pasting = ref(false)
const file = ref<{ file: string; name: string } | null>(null)
const chooser = useTemplateRef<HTMLInputElement>('chooser')
const told = ref<Schemas['DescriptionOut'] | null>(null)
const chosen = ref<string[]>([])
const shown = ref('')
const operation = ref<Schemas['OperationOut'] | null>(null)
const name = ref('')
const title = ref('')
const address = ref('')
const { act, busy, problem } = useAct('connectors')

type Source = { text: string } | { file: string } | { source: string }
const given = computed<Source | null>(() => {
  if (pasting.value) return text.value.trim() ? { text: text.value } : null
  if (file.value) return { file: file.value.file }
  return source.value.trim() ? { source: source.value.trim() } : null
})
const read = () =>
  act('read', async () => {
    if (!given.value) return
    told.value = null
    const body = { operations: [], ...given.value }
    const found = await data(api.POST('/api/v1/descriptions', { body }))
    const before = there.value ? await data(api.GET('/api/v1/connectors/{name}', { params: { path: { name: there.value } } })) : null
    told.value = found
    name.value = there.value || found.name
    title.value = before?.title ?? found.title
    address.value = before?.address ?? found.addresses[0] ?? ''
    const offered = new Set(found.offered.map((one) => one.key))
    chosen.value = before ? before.operations.map((one) => one.key).filter((key) => offered.has(key)) : []
    void show(chosen.value[0] ?? found.offered.find((one) => !one.fault)?.key ?? '')
  })
const take = (event: Event) =>
  act('file', async () => {
    const [one] = Array.from((event.target as HTMLInputElement).files ?? [])
    if (!one) return
    file.value = await keep(one)
    source.value = ''
    if (chooser.value) chooser.value.value = ''
    await read()
  })
async function show(key: string): Promise<void> {
  shown.value = key
  operation.value = null
  if (!key || !given.value || told.value?.offered.find((one) => one.key === key)?.fault) return
  await act('show', async () => {
    const body = { operations: [key], ...given.value! }
    const found = await data(api.POST('/api/v1/descriptions', { body }))
    if (shown.value === key) operation.value = found.operations[0] ?? null
  })
}
const made = () =>
  act('make', async () => {
    const body = { ...given.value!, operations: chosen.value, title: title.value, address: address.value }
    await data(api.PUT('/api/v1/connectors/{name}', { params: { path: { name: name.value } }, body }))
    await router.push(`/connectors/${name.value}`)
  })
const nameFault = computed(() => (/^[a-z][a-z0-9_]{0,29}$/.test(name.value) ? '' : 'small letters, digits and _, at most 30'))
const ready = computed(() => !nameFault.value && chosen.value.length > 0 && chosen.value.length <= MOST && address.value.trim() !== '')
watch(source, () => source.value && (file.value = null))
watch([source, text, file, pasting], () => (told.value = null))
</script>

<template>
  <ConnectionsNav />
  <h1>{{ there ? `A newer description of ${there}` : 'Actions from a description' }}</h1>
  <p class="quiet">
    An OpenAPI document (3.0 or 3.1, JSON or YAML) says what a service can do. Choose what of it your workflows and agents may do; each operation
    becomes an action. Other documents that it refers to are not fetched.
  </p>
  <form class="source" @submit.prevent="read">
    <label v-if="!pasting" class="wide">
      Address of the document
      <BFormInput v-model="source" type="url" maxlength="2000" placeholder="https://office.example/openapi.json" />
    </label>
    <label v-else class="wide">
      The document
      <BFormTextarea v-model="text" rows="8" maxlength="900000" spellcheck="false" class="mono" placeholder="openapi: 3.1.0" />
    </label>
    <BButton type="submit" variant="primary" :disabled="!given || busy === 'read'">{{ busy === 'read' ? 'Reading…' : 'Read it' }}</BButton>
    <input ref="chooser" type="file" accept=".json,.yaml,.yml,application/json,application/yaml" hidden @change="take" />
    <BButton variant="outline-primary" :disabled="busy === 'file'" @click="chooser?.click()">A file</BButton>
    <BButton variant="outline-primary" @click="pasting = !pasting">{{ pasting ? 'An address' : 'Paste it' }}</BButton>
    <span v-if="file" class="quiet">{{ file.name }}</span>
  </form>
  <ProblemNote v-if="problem" :problem="problem" />
  <template v-if="told">
    <h2>
      {{ told.title }} <span class="quiet">{{ told.version }}</span>
    </h2>
    <p v-if="told.about">{{ told.about }}</p>
    <p v-for="note in told.notes" :key="note" class="quiet">Note: {{ note }}</p>
    <div class="sides">
      <div><OperationList v-model="chosen" :offered="told.offered" :shown="shown" :most="MOST" @show="show" /></div>
      <section class="becomes" aria-label="What it becomes" aria-live="polite">
        <template v-if="operation">
          <h3>
            <span class="mono">{{ name || 'it' }}.{{ operation.action.name.split('.')[1] }}</span>
          </h3>
          <p v-if="operation.about">{{ operation.about }}</p>
          <p v-if="operation.sent_as.length" class="quiet">It wants a credential: {{ operation.sent_as.join(', or ') }}.</p>
          <p v-if="operation.pages" class="quiet">Its pages follow each other: <span class="mono">pages</span> says how many are put together.</p>
          <p v-for="note in operation.notes" :key="note" class="quiet">{{ note }}</p>
          <ActionAbout :action="{ ...operation.action, name: operation.action.name.replace(/^it\./, `${name || 'it'}.`) }" />
        </template>
        <p v-else class="quiet">{{ busy === 'show' ? 'Looking what it becomes…' : 'Choose an operation to see what it becomes.' }}</p>
      </section>
    </div>
    <form class="source made" @submit.prevent="made">
      <label>
        Name, before the dot
        <BFormInput v-model="name" required maxlength="30" :disabled="!!there" :state="nameFault ? false : null" aria-describedby="name-fault" />
      </label>
      <label>Title <BFormInput v-model="title" required maxlength="120" /></label>
      <label class="wide"
        >Where the service is <BFormInput v-model="address" type="url" required maxlength="2000" placeholder="https://office.example/api"
      /></label>
      <BButton type="submit" variant="primary" :disabled="!ready || busy === 'make'">
        {{ busy === 'make' ? 'Making…' : there ? 'Make the new version' : `Make ${chosen.length} action${chosen.length === 1 ? '' : 's'}` }}
      </BButton>
      <RouterLink v-if="there" :to="`/connectors/${there}`">Leave it as it is</RouterLink>
      <span v-if="nameFault" id="name-fault" class="quiet">{{ nameFault }}</span>
    </form>
  </template>
</template>

<style scoped>
.source {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 0.75rem;
  align-items: flex-end;
  margin-bottom: 0.75rem;
}
.wide {
  flex: 1 1 24rem;
  max-width: 44rem;
}
.made {
  margin-top: 1rem;
  border-top: 1px solid var(--relay-line);
  padding-top: 0.75rem;
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 6fr) minmax(0, 5fr);
  gap: 1.5rem;
}
.becomes {
  max-height: 35rem;
  overflow: auto;
}
h3 {
  font-size: 1rem;
  overflow-wrap: anywhere;
}
@media (max-width: 900px) {
  .sides {
    grid-template-columns: minmax(0, 1fr);
  }
  .becomes {
    max-height: none;
  }
}
</style>
