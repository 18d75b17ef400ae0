<script setup lang="ts">
import { computed, ref } from 'vue'
import TextInput from '../components/TextInput.vue'
import type { Path } from '../edit/source'
import { removeKey, renameKey, setValue } from '../edit/values'
import type { Draft } from './draft'
import type { Schema } from './fields'
import ShapeMore from './ShapeMore.vue'

/** A shape (JSON Schema) as rows: what is given, of what kind, whether it is needed, and an example. */
const props = defineProps<{ draft: Draft; at: Path; word: string }>()
const KINDS = [
  { value: 'string', text: 'text' },
  { value: 'number', text: 'number' },
  { value: 'integer', text: 'whole number' },
  { value: 'boolean', text: 'yes or no' },
  { value: 'array', text: 'list' },
  { value: 'object', text: 'mapping' },
  { value: '', text: 'anything' },
]
const schema = computed(() => (props.draft.source.value?.value(props.at) ?? {}) as Schema)
const rows = computed(() => Object.entries(schema.value.properties ?? {}))
const name = ref('')
const open = ref('')
const needed = (one: string) => (schema.value.required ?? []).includes(one)

function add(): void {
  const given = name.value.trim()
  if (!given) return
  const made = props.draft.edit((source) => {
    const old = source.value(props.at)
    return old && typeof old === 'object' && Object.keys(old).length
      ? setValue(source, [...props.at, 'properties', given], { type: 'string' })
      : setValue(source, props.at, { type: 'object', required: [given], properties: { [given]: { type: 'string' } } })
  })
  if (made) name.value = ''
}
const set = (one: string, key: string, value: unknown) =>
  props.draft.edit((source) =>
    value === '' ? removeKey(source, [...props.at, 'properties', one, key]) : setValue(source, [...props.at, 'properties', one, key], value),
  )
function need(one: string, on: boolean): void {
  const before = schema.value.required ?? []
  const now = on ? [...before, one] : before.filter((other) => other !== one)
  props.draft.edit((source) => (now.length ? setValue(source, [...props.at, 'required'], now) : removeKey(source, [...props.at, 'required'])))
}
function remove(one: string): void {
  if (rows.value.length === 1) {
    props.draft.edit((source) => removeKey(source, props.at))
    return
  }
  if (needed(one)) need(one, false)
  props.draft.edit((source) => removeKey(source, [...props.at, 'properties', one]))
}
function rename(one: string, to: string): void {
  if (!to || to === one) return
  const was = needed(one)
  if (was) need(one, false)
  props.draft.edit((source) => renameKey(source, [...props.at, 'properties', one], to))
  if (was) need(to, true)
}
function example(one: string, text: string): void {
  const kind = schema.value.properties?.[one]?.type
  const value = kind === 'number' || kind === 'integer' ? Number(text) : text
  set(one, 'examples', text === '' ? '' : [value])
}
const text = (event: Event) => (event.target as HTMLInputElement).value
</script>

<template>
  <div class="shape">
    <table v-if="rows.length" class="table table-sm">
      <thead>
        <tr>
          <th>Name</th>
          <th>Kind</th>
          <th>Needed</th>
          <th>Example</th>
          <th><span class="visually-hidden">Remove</span></th>
        </tr>
      </thead>
      <tbody>
        <template v-for="[one, shape] in rows" :key="one">
          <tr>
            <td>
              <TextInput class="mono" :value="one" :aria-label="`Name of ${one}`" @change="(name) => rename(one, name)" />
            </td>
            <td>
              <select
                class="form-select form-select-sm"
                :value="shape.type ?? ''"
                :aria-label="`Kind of ${one}`"
                @change="set(one, 'type', text($event))">
                <option v-for="kind in KINDS" :key="kind.value" :value="kind.value">{{ kind.text }}</option>
              </select>
            </td>
            <td class="text-center">
              <input
                type="checkbox"
                class="form-check-input"
                :checked="needed(one)"
                :aria-label="`${one} is needed`"
                @change="need(one, ($event.target as HTMLInputElement).checked)" />
            </td>
            <td>
              <TextInput
                :value="String((shape.examples as unknown[] | undefined)?.[0] ?? '')"
                :aria-label="`Example of ${one}`"
                @change="(given) => example(one, given)" />
            </td>
            <td class="text-nowrap">
              <button
                type="button"
                class="btn btn-link btn-sm p-0"
                :aria-label="`More of ${one}`"
                :aria-expanded="open === one"
                @click="open = open === one ? '' : one">
                More
              </button>
              <button type="button" class="btn btn-link btn-sm p-0 ms-2" :aria-label="`Remove ${one}`" @click="remove(one)">✕</button>
            </td>
          </tr>
          <tr v-if="shape.type === 'array'">
            <td colspan="5" class="inner">
              <label
                >Each is
                <select
                  class="form-select form-select-sm d-inline-block w-auto"
                  :value="shape.items?.type ?? ''"
                  :aria-label="`Kind of each of ${one}`"
                  @change="set(one, 'items', text($event) ? { type: text($event) } : '')">
                  <option v-for="kind in KINDS" :key="kind.value" :value="kind.value">{{ kind.text }}</option>
                </select>
              </label>
              <ShapeRows
                v-if="shape.items?.type === 'object'"
                :draft="draft"
                :at="[...at, 'properties', one, 'items']"
                :word="`part of each of ${one}`" />
            </td>
          </tr>
          <tr v-if="shape.type === 'object'">
            <td colspan="5" class="inner"><ShapeRows :draft="draft" :at="[...at, 'properties', one]" :word="`part of ${one}`" /></td>
          </tr>
          <tr v-if="open === one">
            <td colspan="5" class="inner"><ShapeMore :draft="draft" :at="[...at, 'properties', one]" /></td>
          </tr>
        </template>
      </tbody>
    </table>
    <form class="d-flex gap-2" @submit.prevent="add">
      <input v-model="name" class="form-control form-control-sm mono w-auto" :aria-label="`Name of another ${word}`" placeholder="name" />
      <button type="submit" class="btn btn-outline-primary btn-sm">Add {{ word }}</button>
    </form>
  </div>
</template>

<style scoped>
.inner {
  padding-left: 2rem;
}
</style>
