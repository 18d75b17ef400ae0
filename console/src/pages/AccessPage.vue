<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton, BFormCheckbox, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { reactive, ref } from 'vue'
import { api, data, type Schemas } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useAct } from '../lib/act'
import { moment } from '../lib/times'
import { currency } from '../lib/format'
import { release, who } from '../lib/session'
import { every } from '../lib/lists'
import { sure } from '../lib/sure'

type Right = NonNullable<Schemas['TokenIn']['rights']>[number]
const rights: [Right, string][] = [
  ['read', 'see workflows, runs, tables and usage'],
  ['answer', 'answer what waits in the tray'],
  ['run', 'start, cancel and run again; schedules, rows, budgets'],
  ['write', 'write workflows and switch them on'],
  ['store', 'store credentials, models, tool servers, tables'],
  ['manage', 'make tokens; let held runs go'],
]
const ends = [
  { value: 30, text: '30 days' },
  { value: 90, text: '90 days' },
  { value: 365, text: 'a year' },
  { value: 0, text: 'no end' },
]

const { data: sessions, error: sessionsFailure } = useQuery({
  queryKey: ['sessions'],
  queryFn: () => every((query) => data(api.GET('/api/v1/sessions', { params: { query } }))),
})
const {
  data: tokens,
  error: tokensFailure,
  isPending,
} = useQuery({ queryKey: ['tokens'], queryFn: () => every((query) => data(api.GET('/api/v1/tokens', { params: { query } }))) })
const { data: settings, error: settingsFailure } = useQuery({
  queryKey: ['settings'],
  queryFn: () => every((query) => data(api.GET('/api/v1/settings', { params: { query } }))),
})
const { act: onSessions, busy: sessionBusy, problem: sessionProblem } = useAct('sessions')
const { act: onTokens, busy: tokenBusy, problem: tokenProblem } = useAct('tokens')

const password = reactive({ old: '', fresh: '' })
const changed = ref(false)
const change = () =>
  onSessions('password', async () => {
    changed.value = false
    await data(api.POST('/api/v1/password', { body: { old: password.old, new: password.fresh } }))
    Object.assign(password, { old: '', fresh: '' })
    changed.value = true
  })
const end = (id: string) => onSessions(id, () => data(api.DELETE('/api/v1/sessions/{session_id}', { params: { path: { session_id: id } } })))

const adding = ref(false)
const made = ref('')
const form = reactive({ name: '', days: 90, all: false, rights: ['read'] as Right[], workflows: '' })
const add = () =>
  onTokens('add', async () => {
    const workflows = form.workflows.split(/[\s,]+/).filter(Boolean)
    const body = {
      name: form.name,
      ...(form.days && { days: form.days }),
      ...(!form.all && { rights: form.rights }),
      ...(workflows.length && { workflows }),
    }
    made.value = (await data(api.POST('/api/v1/tokens', { body }))).secret ?? ''
    Object.assign(form, { name: '', workflows: '' })
    adding.value = false
  })
async function revoke(token: Schemas['TokenOut']): Promise<void> {
  if (await sure(`Revoke the token ${token.name}?`, 'Whoever uses it is refused from now on.', 'Revoke it')) {
    void onTokens(token.id, () => data(api.DELETE('/api/v1/tokens/{token_id}', { params: { path: { token_id: token.id } } })))
  }
}
const may = (token: Schemas['TokenOut']) => (token.rights?.join(', ') ?? 'everything') + (token.workflows ? ` of ${token.workflows.join(', ')}` : '')
</script>

<template>
  <div class="head">
    <h1>Settings</h1>
    <p class="quiet">
      You are signed in as {{ who }}. The service is of release {{ release }}; sums are
      {{ currency ? `in ${currency}` : 'shown without a currency: OAK_RELAY_CURRENCY sets one' }}.
    </p>
  </div>

  <section aria-labelledby="password-title">
    <h2 id="password-title">Password</h2>
    <form class="add" @submit.prevent="change">
      <label>The present one <BFormInput v-model="password.old" type="password" required autocomplete="current-password" /></label>
      <label>A new one <BFormInput v-model="password.fresh" type="password" required minlength="8" autocomplete="new-password" /></label>
      <div><BButton type="submit" variant="outline-primary" :disabled="sessionBusy === 'password'">Change</BButton></div>
    </form>
    <p v-if="changed" role="status">Changed. Your other sessions are ended.</p>
    <ProblemNote v-if="sessionProblem" :problem="sessionProblem" />
  </section>

  <section aria-labelledby="sessions-title">
    <h2 id="sessions-title">Sessions</h2>
    <ProblemNote v-if="sessionsFailure" :problem="sessionsFailure" />
    <table class="table">
      <thead>
        <tr>
          <th>From</th>
          <th class="wide-only">Browser</th>
          <th class="wide-only">Begun</th>
          <th>Last used</th>
          <th><span class="visually-hidden">What may be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in sessions" :key="one.id">
          <td class="mono">{{ one.address || 'unknown' }}</td>
          <td class="wide-only agent">{{ one.agent || 'unknown' }}</td>
          <td class="wide-only">{{ moment(one.created_at) }}</td>
          <td>{{ moment(one.last_used_at) }}</td>
          <td class="num">
            <span v-if="one.this" class="quiet">this one</span
            ><BButton v-else size="sm" variant="outline-danger" :disabled="sessionBusy === one.id" @click="end(one.id)">End</BButton>
          </td>
        </tr>
      </tbody>
    </table>
  </section>

  <section aria-labelledby="tokens-title">
    <div class="head">
      <h2 id="tokens-title">Tokens</h2>
      <p class="quiet">For programs and command lines: less than you may, and for as long as they need it.</p>
      <BButton v-if="!adding" variant="outline-primary" @click="adding = true">Add token</BButton>
    </div>
    <form v-if="adding" class="add" @submit.prevent="add">
      <label>Name <BFormInput v-model="form.name" required maxlength="100" placeholder="nightly report" /></label>
      <label>Until <BFormSelect v-model="form.days" :options="ends" /></label>
      <label>Only for the workflows <BFormInput v-model="form.workflows" placeholder="all" /></label>
      <fieldset>
        <legend>It may</legend>
        <BFormCheckbox v-model="form.all">do everything that you may</BFormCheckbox>
        <template v-if="!form.all"
          ><BFormCheckbox v-for="[name, what] in rights" :key="name" v-model="form.rights" :value="name">{{ what }}</BFormCheckbox></template
        >
      </fieldset>
      <div>
        <BButton type="submit" variant="primary" :disabled="tokenBusy === 'add' || (!form.all && !form.rights.length)">Make it</BButton>
        <BButton variant="link" @click="adding = false">Not now</BButton>
      </div>
    </form>
    <p v-if="made" role="status">
      Copy it now; it is not shown again: <span class="mono made">{{ made }}</span>
    </p>
    <ProblemNote v-if="tokenProblem || tokensFailure" :problem="(tokenProblem ?? tokensFailure)!" />
    <LoadingLines v-else-if="isPending" />
    <p v-else-if="!tokens?.length">None.</p>
    <table v-else class="table">
      <thead>
        <tr>
          <th>Name</th>
          <th>May</th>
          <th class="wide-only">Made</th>
          <th class="wide-only">Last used</th>
          <th class="wide-only">Until</th>
          <th><span class="visually-hidden">What may be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="token in tokens" :key="token.id">
          <td class="name">{{ token.name }}</td>
          <td>{{ may(token) }}</td>
          <td class="wide-only">{{ moment(token.created_at) }}</td>
          <td class="wide-only">{{ moment(token.last_used_at) }}</td>
          <td class="wide-only">{{ token.expires_at ? moment(token.expires_at) : 'no end' }}</td>
          <td class="num">
            <BButton size="sm" variant="link" class="text-danger" :disabled="tokenBusy === token.id" @click="revoke(token)">Revoke</BButton>
          </td>
        </tr>
      </tbody>
    </table>
  </section>

  <section aria-labelledby="service-title">
    <h2 id="service-title">The service</h2>
    <p class="quiet">Set by its environment, or in the file oak-relay.toml, when it starts.</p>
    <ProblemNote v-if="settingsFailure" :problem="settingsFailure" />
    <table v-else class="table table-sm">
      <thead>
        <tr>
          <th>Setting</th>
          <th>It is</th>
          <th class="wide-only">What it does</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in settings" :key="one.name">
          <td class="mono agent">{{ one.name }}</td>
          <td class="agent">{{ one.value || '–' }}<span v-if="!one.own" class="quiet"> as it comes</span></td>
          <td class="wide-only quiet">{{ one.about }}</td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.25rem 1rem;
}
.head p {
  margin: 0;
  flex: 1;
  min-width: 14rem;
}
section {
  margin-top: 2rem;
}
h2 {
  font-size: 1.15rem;
  margin: 0 0 0.6rem;
}
.add {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(15rem, 1fr));
  gap: 0.8rem;
  align-items: end;
  margin-bottom: 1rem;
}
fieldset {
  grid-column: 1 / -1;
}
legend {
  font-size: 1rem;
}
.name,
.agent {
  overflow-wrap: anywhere;
}
.made {
  overflow-wrap: anywhere;
  user-select: all;
}
</style>
