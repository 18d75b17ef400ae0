<script setup lang="ts">
import { BButton, BFormSelect } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Schemas } from '../api/client'
import { nameKey } from '../edit/source'
import TextInput from '../components/TextInput.vue'
import WorkflowMore from '../components/WorkflowMore.vue'
import { moment } from '../lib/times'
import type { Draft } from './draft'
import SwitchOn from './SwitchOn.vue'

const props = defineProps<{ name: string; fresh: boolean; page: Schemas['WorkflowPage'] | undefined; draft: Draft; side: 'bench' | 'document' }>()
const remark = defineModel<string>('remark', { required: true })
const emit = defineEmits<{
  save: []
  turn: [on: boolean]
  start: []
  version: [number: number | null]
  side: [side: 'bench' | 'document']
  name: [name: string]
  title: [title: string]
}>()
const route = useRoute()
const router = useRouter()
const checked = computed(() => props.draft.checked.value)
const mistakes = computed(() => (checked.value?.findings ?? []).filter((one) => one.severity === 'error').length)
const on = computed(() => props.page?.workflow.on_version ?? null)
/** The newest version, where an older one is shown. */
const older = computed(() => {
  const newest = props.page?.versions[0]?.number ?? 0
  return props.page && props.page.version < newest ? newest : null
})
const isOn = computed(() => on.value !== null && on.value === props.draft.version.value && !props.draft.changed.value)
const versions = computed(() =>
  (props.page?.versions ?? []).map((one) => ({
    value: one.number,
    text: `version ${one.number}${one.on ? ', on' : (on.value ?? 0) < one.number ? ', draft' : ''}, ${moment(one.created_at)}`,
  })),
)
const version = computed({
  get: () => props.page?.version ?? null,
  set: (number) => emit('version', number === versions.value[0]?.value ? null : number),
})
const called = computed(() => {
  const source = props.draft.source.value
  return source ? String(source.value([nameKey(source)]) ?? '') : ''
})
const title = computed(() => String(props.draft.source.value?.value(['title']) ?? ''))
</script>

<template>
  <div class="head">
    <div class="what">
      <h1>{{ title || called || checked?.title || name }}</h1>
      <p v-if="fresh" class="names">
        <label
          >Name
          <TextInput class="mono" :value="called" aria-label="Name of the workflow" @change="(name) => emit('name', name)" />
        </label>
        <label>Title <TextInput :value="title" aria-label="Title" @change="(text) => emit('title', text)" /></label>
      </p>
      <p v-else class="quiet">
        {{ (checked?.starters ?? []).join('; ') }}. <strong v-if="on">On, with version {{ on }}.</strong>
        <template v-else><strong>Off</strong>: nothing starts it by itself; you still can.</template>
      </p>
      <p v-if="older" class="older">
        This is version {{ page?.version }}. Saved, it becomes the newest, in the place of version {{ older }}, which stays in the list.
      </p>
    </div>
    <BFormSelect v-if="!fresh" v-model="version" :options="versions" size="sm" class="versions" aria-label="Version" />
    <div class="acts">
      <div class="btn-group" role="group" aria-label="Side">
        <button
          type="button"
          class="btn btn-sm btn-outline-primary"
          :class="{ active: side === 'bench' }"
          :aria-pressed="side === 'bench'"
          @click="emit('side', 'bench')">
          Bench
        </button>
        <button
          type="button"
          class="btn btn-sm btn-outline-primary"
          :class="{ active: side === 'document' }"
          :aria-pressed="side === 'document'"
          @click="emit('side', 'document')">
          Document
        </button>
      </div>
      <BButton variant="outline-primary" size="sm" :disabled="!draft.back.value.length" title="Ctrl+Z" @click="draft.undo">Undo</BButton>
      <input
        v-if="!fresh && draft.changed.value"
        v-model="remark"
        class="form-control form-control-sm remark"
        maxlength="300"
        placeholder="what is new (if you like)"
        aria-label="What is new in it"
        @keydown.enter="emit('save')" />
      <BButton variant="outline-primary" :disabled="!draft.changed.value || mistakes > 0" @click="emit('save')">Save</BButton>
      <SwitchOn
        v-if="!fresh && !isOn"
        :draft="draft"
        :word="on ? 'Switch on with this version' : 'Switch on'"
        :disabled="mistakes > 0"
        @on="emit('turn', true)"
        @line="(path) => router.replace({ query: { ...route.query, line: path, side: undefined } })" />
      <BButton v-if="!fresh && on" variant="link" @click="emit('turn', false)">Switch off</BButton>
      <BButton v-if="!fresh" variant="primary" :disabled="mistakes > 0" @click="emit('start')">Start…</BButton>
      <WorkflowMore v-if="!fresh" :name="name" />
    </div>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.5rem 1rem;
  margin-bottom: 0.75rem;
}
.what {
  margin-right: auto;
}
.what p {
  margin: 0;
}
.older {
  color: var(--relay-waiting);
}
.names {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem 1rem;
}
.names label {
  display: flex;
  align-items: center;
  gap: 0.4rem;
}
.versions {
  width: auto;
}
.remark {
  width: 14rem;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
}
</style>
