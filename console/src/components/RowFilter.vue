<script setup lang="ts">
import { BButton, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { shown } from '../lib/format'
import { HOWS, type How, type Kind, read, type Stands, told, WAYS, withStands } from './rowFilter'

/** Which rows of a table are shown: columns and how their values stand, as `where` of the action that finds rows. */
const props = defineProps<{ columns: { name: string; type: string }[] }>()
const where = defineModel<string>({ required: true })
const adding = ref(false)
const column = ref('')
const how = ref<How>('is')
const typed = ref('')
const wrong = ref('')
const chips = computed(() => told(where.value))
const kind = computed(() => (props.columns.find((one) => one.name === column.value)?.type ?? 'text') as Kind)
const ways = computed(() => WAYS[kind.value].map((one) => ({ value: one, text: HOWS[one] })))
function begin(): void {
  column.value = props.columns[0]?.name ?? ''
  how.value = 'is'
  typed.value = wrong.value = ''
  adding.value = true
}
function choose(): void {
  if (!WAYS[kind.value].includes(how.value)) how.value = 'is'
}
function add(): void {
  try {
    where.value = withStands(where.value, { column: column.value, how: how.value, value: read(how.value, kind.value, typed.value) })
    adding.value = false
  } catch (error) {
    wrong.value = (error as Error).message
  }
}
function drop(gone: Stands): void {
  const left = chips.value.filter((one) => one !== gone)
  where.value = left.reduce((made, one) => withStands(made, one), '')
}
</script>

<template>
  <div class="filter" role="group" aria-label="Which rows">
    <span v-for="(one, at) in chips" :key="at" class="chip">
      {{ one.column }} {{ HOWS[one.how] }} <b v-if="one.how !== 'empty' && one.how !== 'filled'">{{ shown(one.value) }}</b>
      <BButton size="sm" variant="link" :aria-label="`Without: ${one.column} ${HOWS[one.how]}`" @click="drop(one)">×</BButton>
    </span>
    <form v-if="adding" @submit.prevent="add" @keydown.esc.stop="adding = false">
      <BFormSelect v-model="column" size="sm" aria-label="Column" :options="columns.map((one) => one.name)" @change="choose" />
      <BFormSelect v-model="how" size="sm" aria-label="How it stands" :options="ways" />
      <BFormInput
        v-if="how !== 'empty' && how !== 'filled'"
        v-model="typed"
        size="sm"
        autofocus
        aria-label="Value"
        :placeholder="how === 'in' ? 'one, another' : kind === 'boolean' ? 'true or false' : ''"
        maxlength="500" />
      <BButton size="sm" type="submit" variant="primary">Show these</BButton>
      <BButton size="sm" variant="link" @click="adding = false">Not now</BButton>
      <span v-if="wrong" class="text-danger small" role="alert">{{ wrong }}</span>
    </form>
    <BButton v-else size="sm" variant="link" @click="begin">{{ chips.length ? 'Another condition…' : 'Rows where…' }}</BButton>
  </div>
</template>

<style scoped>
.filter,
form {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.4rem;
}
.filter {
  margin-bottom: 0.5rem;
}
.filter .form-control,
.filter .form-select {
  width: auto;
  max-width: 14rem;
}
.chip {
  border: 1px solid var(--bs-border-color);
  border-radius: 0.3rem;
  padding: 0 0.1rem 0 0.5rem;
  overflow-wrap: anywhere;
}
.chip .btn {
  padding: 0 0.3rem;
}
</style>
