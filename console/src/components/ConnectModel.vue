<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormInput, BFormSelect, BModal } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { api, data, type Schemas } from '../api/client'
import ModelConnected from './ModelConnected.vue'
import ProblemNote from './ProblemNote.vue'
import { every } from '../lib/lists'

const props = defineProps<{ taken: string[] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ connected: [name: string, byHand: boolean] }>()

const address = ref('')
const key = ref('')
const server = ref<Schemas['ModelServerOut'] | null>(null)
const model = ref('')
const name = ref('')
const read = ref<string | number>('')
const written = ref<string | number>('')
const busy = ref('')
const problem = ref<Error | null>(null)
const done = ref<Schemas['ConnectedOut'] | null>(null)

const nearby = useQuery({
  queryKey: ['nearby'],
  enabled: open,
  staleTime: 30_000,
  queryFn: () => every((query) => data(api.GET('/api/v1/model-servers', { params: { query } }))),
})
const offered = computed(() => server.value?.models ?? [])
const options = computed(() =>
  offered.value.map((one) => ({
    value: one.id,
    text: [one.id, one.purpose !== 'chat' && `for ${one.purpose}`, one.context && `${one.context.toLocaleString()} tokens of context`]
      .filter(Boolean)
      .join(', '),
  })),
)
const chosen = computed(() => offered.value.find((one) => one.id === model.value))
const priced = computed(() => chosen.value?.read != null && chosen.value.written != null)
const nameFault = computed(() => (/^[A-Za-z0-9_-]{1,60}$/.test(name.value) ? '' : 'letters, digits, - and _'))

watch(
  open,
  (now) => {
    if (!now) return
    address.value = key.value = model.value = ''
    read.value = written.value = ''
    server.value = done.value = problem.value = null
    name.value = ['quick', 'careful'].find((one) => !props.taken.includes(one)) ?? `model-${props.taken.length + 1}`
  },
  { immediate: true },
)

async function work(what: string, call: () => Promise<void>): Promise<void> {
  busy.value = what
  problem.value = null
  try {
    await call()
  } catch (error) {
    problem.value = error as Error
  } finally {
    busy.value = ''
  }
}
const look = () =>
  work('look', async () => {
    server.value = await data(api.POST('/api/v1/model-servers/look', { body: { address: address.value, key: key.value } }))
    model.value = offered.value[0]?.id ?? ''
  })
function take(one: Schemas['ModelServerOut']): void {
  address.value = one.url
  if (!one.keyed) void look()
}
const connect = () =>
  work('connect', async () => {
    const prices = read.value === '' && written.value === '' ? null : { input: Number(read.value || 0), output: Number(written.value || 0) }
    const body = { name: name.value, address: server.value?.url ?? address.value, key: key.value, model: model.value, prices, max_tokens: 1024 }
    done.value = await data(api.POST('/api/v1/model-servers/connect', { body }))
    key.value = ''
    emit('connected', name.value, false)
  })
function back(): void {
  server.value = null
  problem.value = null
}
function byHand(): void {
  open.value = false
  emit('connected', '', true)
}
</script>

<template>
  <BModal v-model="open" title-tag="h2" title-class="fs-5" title="Connect a model" size="lg" no-footer>
    <form v-if="!server" @submit.prevent="look">
      <template v-if="nearby.data.value?.length">
        <p class="mb-1">Found on the machine of this service:</p>
        <ul class="near">
          <li v-for="one in nearby.data.value" :key="one.url">
            <BButton size="sm" variant="outline-primary" :disabled="busy !== ''" @click="take(one)">Use</BButton>
            <span class="mono">{{ one.url }}</span>
            <span class="quiet">{{ one.models.map((m) => m.id).join(', ') || 'asks for a key' }}</span>
          </li>
        </ul>
      </template>
      <label
        >Address of its server <BFormInput v-model="address" required placeholder="https://models.example" aria-describedby="address-hint" autofocus
      /></label>
      <p id="address-hint" class="quiet">With or without its version. Any server that speaks the chat-completions protocol.</p>
      <label>Key, if it asks for one <BFormInput v-model="key" type="password" autocomplete="off" /></label>
      <ProblemNote v-if="problem" :problem="problem" />
      <div class="acts">
        <BButton type="submit" variant="primary" :disabled="busy !== '' || !address">{{
          busy === 'look' ? 'Looking…' : 'See what it offers'
        }}</BButton>
        <BButton variant="link" @click="byHand">Write it down by hand</BButton>
      </div>
    </form>

    <form v-else-if="!done" @submit.prevent="connect">
      <p>
        <span class="mono">{{ server?.url }}</span> offers {{ offered.length || 'no list of' }} {{ offered.length === 1 ? 'model' : 'models' }}.
      </p>
      <label>Model <BFormSelect v-if="offered.length" v-model="model" :options="options" /><BFormInput v-else v-model="model" required /></label>
      <label>Name here <BFormInput v-model="name" required aria-describedby="name-hint" /></label>
      <p id="name-hint" class="quiet">
        What workflows call it; the model behind it can be exchanged later.{{ nameFault && ` Use ${nameFault}.`
        }}{{ taken.includes(name) ? ' There is one of this name: it is replaced.' : '' }}
      </p>
      <p v-if="priced" class="quiet">Its server tells its price: {{ chosen?.read }} per million tokens read, {{ chosen?.written }} written.</p>
      <div v-else class="pair">
        <label>Money per million tokens read <BFormInput v-model="read" type="number" step="any" min="0" placeholder="not known" /></label>
        <label>Money per million written <BFormInput v-model="written" type="number" step="any" min="0" placeholder="not known" /></label>
      </div>
      <p v-if="!priced" class="quiet">0 for one that is free. While it is not known, money cannot be limited where the model is used.</p>
      <ProblemNote v-if="problem" :problem="problem" />
      <div class="acts">
        <BButton type="submit" variant="primary" :disabled="busy !== '' || !model || nameFault !== ''">{{
          busy === 'connect' ? 'Finding out what it can do…' : 'Connect'
        }}</BButton>
        <BButton variant="link" :disabled="busy !== ''" @click="back">Back</BButton>
      </div>
    </form>

    <ModelConnected v-else :done="done" @leave="open = false" />
  </BModal>
</template>

<style scoped>
label {
  display: block;
  margin-top: 0.75rem;
}
.quiet {
  margin: 0.25rem 0 0;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  margin-top: 1.25rem;
}
.pair {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(14rem, 1fr));
  gap: 0 1rem;
}
.near {
  list-style: none;
  padding: 0;
}
.near li {
  display: flex;
  flex-wrap: wrap;
  gap: 0.25rem 0.75rem;
  align-items: center;
  margin-bottom: 0.5rem;
  overflow-wrap: anywhere;
}
.near .quiet {
  margin: 0;
}
</style>
