<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { plain, type Schema } from '../workflow/fields'

/** What an action takes and gives, what repeating it means, and how a step with it begins. */
const props = defineProps<{ action: Schemas['ActionOut'] }>()
interface Field {
  name: string
  type: string
  needed: boolean
  about: string
}
const REPEATS: Record<string, string> = {
  safe: 'It may be done again after a failure: doing it twice leaves the same as doing it once.',
  keyed: 'It is sent with a key by which its receiver knows that it is the same: doing it again does it once.',
  checkable: 'When its outcome is unknown it is looked whether it happened; only then is it done again.',
  unsafe: 'It is never done again by itself: when its outcome is unknown, a person is asked.',
}
const kinds = (one: Schema): string =>
  one.enum ? one.enum.map(String).join(' | ') : [one.type ?? one.anyOf?.map((way) => way.type ?? '') ?? ''].flat().filter(Boolean).join(' | ')
function fields(schema: Schema, first: readonly string[] = []): Field[] {
  const needed = schema.required ?? []
  const rank = (name: string) => (first.includes(name) ? first.indexOf(name) : needed.includes(name) ? 50 : 99)
  const told = ([name, given]: [string, Schema], of: Schema, path = ''): Field[] => {
    const one = plain(given, schema)
    const inner = path ? [] : Object.entries(one.properties ?? {}).flatMap((part) => told(part, one, `${name}.`))
    return [{ name: path + name, type: kinds(one), needed: (of.required ?? []).includes(name), about: one.description ?? '' }, ...inner]
  }
  return Object.entries(schema.properties ?? {})
    .sort(([a], [b]) => rank(a) - rank(b))
    .flatMap((one) => told(one, schema))
    .slice(0, 200)
}
/** What is said of a field that is always there. */
const ALWAYS: Record<string, string> = { 'It takes': 'needed', 'It gives': 'always' }
const parts = computed(
  () =>
    [
      ['It takes', fields(props.action.input as Schema, props.action.first)],
      ['It gives', fields(plain(props.action.output as Schema, props.action.output as Schema))],
    ] as const,
)
const gave = computed(() => props.action.example_gives && JSON.stringify(props.action.example_gives, null, 2))
const example = computed(() => {
  const { name, example: given } = props.action
  const written = (value: unknown) =>
    typeof value !== 'string' ? JSON.stringify(value) : value.includes('\n') ? ['|', ...value.trimEnd().split('\n')].join('\n        ') : value
  const lines = Object.entries(given).map(([key, value]) => `      ${key}: ${written(value)}`)
  return [`  - step: ${name.split('.').at(-1) ?? 'step'}`, `    do: ${name}`, ...(lines.length ? ['    with:', ...lines] : [])].join('\n')
})
</script>

<template>
  <div class="about">
    <p>{{ REPEATS[action.repeat] ?? action.repeat }} One try may take {{ action.timeout }} s.</p>
    <p v-if="action.scopes.length">
      An app's credential needs the scopes <span class="mono">{{ action.scopes.join(' ') }}</span>.
    </p>
    <template v-for="[title, some] in parts" :key="title">
      <h3 v-if="some.length">{{ title }}</h3>
      <dl v-if="some.length">
        <template v-for="field in some" :key="field.name">
          <dt>
            <span class="mono">{{ field.name }}</span> <span class="quiet">{{ field.type }}{{ field.needed ? `, ${ALWAYS[title]}` : '' }}</span>
          </dt>
          <dd>{{ field.about }}</dd>
        </template>
      </dl>
    </template>
    <h3>An example</h3>
    <pre tabindex="0">{{ example }}</pre>
    <template v-if="gave">
      <p class="quiet">gave (…: another each time)</p>
      <pre tabindex="0">{{ gave }}</pre>
    </template>
  </div>
</template>

<style scoped>
.about {
  padding: 0.4rem 0 0.8rem 1rem;
}
h3 {
  font-size: 0.95rem;
  margin: 0.6rem 0 0.2rem;
}
dl {
  display: grid;
  grid-template-columns: minmax(10rem, 16rem) minmax(0, 1fr);
  gap: 0.1rem 1rem;
  margin: 0;
}
dt {
  font-weight: 400;
  overflow-wrap: anywhere;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
@media (max-width: 700px) {
  dl {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
