<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BModal } from 'bootstrap-vue-next'
import { computed, ref, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, data } from '../api/client'
import { useChoosing } from '../lib/choosing'
import { every } from '../lib/lists'
import { moment } from '../lib/times'
import { ALL } from '../lib/places'
import { type Find, findsHere, matching } from '../lib/seeking'

/** Finds lines of the page that is open, workflows, runs and pages, from anywhere. */
const router = useRouter()
const open = defineModel<boolean>({ required: true })
const typed = ref('')
const asked = ref('')
const field = useTemplateRef<HTMLInputElement>('field')
const PAUSE = 200
let timer: number | undefined
watch(typed, (now) => {
  window.clearTimeout(timer)
  timer = window.setTimeout(() => (asked.value = now.trim()), PAUSE)
})
const workflows = useQuery({
  queryKey: ['search', 'workflows', asked],
  enabled: () => open.value && !!asked.value,
  queryFn: () => data(api.GET('/api/v1/workflows', { params: { query: { text: asked.value, limit: 8 } } })),
})
const ID = /^[0-9a-f-]{4,36}$/i
const runs = useQuery({
  queryKey: ['search', 'runs', asked],
  enabled: () => open.value && ID.test(asked.value),
  queryFn: () => data(api.GET('/api/v1/runs', { params: { query: { id: asked.value, limit: 5 } } })),
})
const tables = useQuery({
  queryKey: ['tables', 'all'],
  enabled: () => open.value,
  queryFn: () => every((query) => data(api.GET('/api/v1/tables', { params: { query } }))),
})
const actions = useQuery({
  queryKey: ['actions'],
  enabled: () => open.value,
  queryFn: () => every((query) => data(api.GET('/api/v1/actions', { params: { query } }))),
})
const to = (path: string) => () => router.push(path)
const groups = computed<{ title: string; finds: Find[] }[]>(() => {
  const words = typed.value.trim()
  const pages = ALL.map(({ path, title }) => ({ key: title, title, about: 'page', go: to(path) }))
  return [
    { title: 'On this page', finds: words ? matching(findsHere(), words, 8) : [] },
    {
      title: 'Workflows',
      finds: words
        ? (workflows.data.value?.items ?? []).map((one) => ({ key: one.name, title: one.name, about: one.title, go: to(`/workflows/${one.name}`) }))
        : [],
    },
    {
      title: 'Runs',
      finds: [
        ...(ID.test(words) ? (runs.data.value?.items ?? []) : []).map((one) => ({
          key: one.id,
          title: one.id,
          about: `${one.workflow}, ${one.state}, ${moment(one.created_at)}`,
          go: to(`/runs/${one.id}`),
        })),
        ...(words
          ? [
              {
                key: 'runs',
                title: `Runs with “${words}”`,
                about: 'in what they were given, gave or failed with',
                go: to(`/runs?text=${encodeURIComponent(words)}`),
              },
            ]
          : []),
      ],
    },
    {
      title: 'Tables',
      finds: words
        ? matching(
            (tables.data.value ?? []).map((one) => ({ key: one.name, title: one.name, about: `${one.rows} rows`, go: to(`/tables/${one.name}`) })),
            words,
            5,
          )
        : [],
    },
    {
      title: 'Actions',
      finds: words
        ? matching(
            (actions.data.value ?? []).map((one) => ({ key: one.name, title: one.name, about: one.title, go: to(`/connectors?action=${one.name}`) })),
            words,
            5,
          )
        : [],
    },
    { title: 'Pages', finds: words ? matching(pages, words, 7) : pages },
  ].filter((one) => one.finds.length)
})
const all = computed(() => groups.value.flatMap((one) => one.finds))
const { at, key } = useChoosing(
  () => all.value.length,
  (n) => take(all.value[n]),
)
let taken: Find | null = null
/** Once the dialog is gone and the focus is back, so that it stays where it is led. */
function left(): void {
  const find = taken
  taken = null
  if (find) window.setTimeout(() => void find.go())
}
function take(find: Find | undefined): void {
  if (!find) return
  taken = find
  open.value = false
}
watch(
  open,
  (now) => {
    if (!now) return
    typed.value = asked.value = ''
    at.value = 0
  },
  { immediate: true },
)
</script>

<template>
  <BModal v-model="open" title="Search" title-tag="h2" title-class="fs-5" no-footer @hidden="left" @shown="field?.focus()">
    <input
      ref="field"
      v-model="typed"
      class="form-control"
      role="combobox"
      aria-label="Search for a line, a workflow, a run, a table, an action or a page"
      aria-expanded="true"
      aria-controls="finds"
      :aria-activedescendant="`find-${at}`"
      placeholder="A line, a workflow, a run’s id, a table, an action, a page"
      autocomplete="off"
      @input="at = 0"
      @keydown="key" />
    <div id="finds" role="listbox" aria-label="Found" class="finds">
      <div v-for="group in groups" :key="group.title" role="group" :aria-label="group.title">
        <div class="quiet group" aria-hidden="true">{{ group.title }}</div>
        <div
          v-for="find in group.finds"
          :id="`find-${all.indexOf(find)}`"
          :key="find.key"
          role="option"
          :aria-selected="all[at] === find"
          class="find"
          :class="{ at: all[at] === find }"
          @click="take(find)">
          {{ find.title }} <span class="quiet">{{ find.about }}</span>
        </div>
      </div>
    </div>
    <p v-if="workflows.error.value || runs.error.value" class="text-danger" role="alert">
      {{ (workflows.error.value ?? runs.error.value)?.message }}
    </p>
  </BModal>
</template>

<style scoped>
.finds {
  max-height: 60vh;
  overflow-y: auto;
  margin-top: 0.5rem;
}
.group {
  font-size: 0.85rem;
  margin-top: 0.4rem;
}
.find {
  padding: 0.2rem 0.6rem;
  cursor: pointer;
  overflow-wrap: anywhere;
}
.at {
  background: var(--bs-tertiary-bg);
}
</style>
