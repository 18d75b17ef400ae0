<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { api, data } from '../api/client'
import ProblemNote from './ProblemNote.vue'

/** What one document says otherwise than another, in sentences. */
const props = defineProps<{ before: string; after: string }>()
const found = useQuery({
  queryKey: ['differences', () => props.before, () => props.after],
  staleTime: Infinity,
  gcTime: 60_000,
  queryFn: () => data(api.POST('/api/v1/workflows/compare', { body: { before: props.before, after: props.after } })),
})
const WORDS: Record<string, string> = { added: 'new', removed: 'gone', changed: 'changed', moved: 'moved', renamed: 'renamed' }
const said = (value: string | null) => (value === null ? 'nothing' : value)
</script>

<template>
  <ProblemNote v-if="found.error.value" :problem="found.error.value" />
  <p v-else-if="found.data.value && !found.data.value.differences.length" class="quiet">
    {{ before === after ? 'They are the same.' : 'They say the same; only spaces, comments or order differ.' }}
  </p>
  <ul v-else-if="found.data.value" class="differences">
    <li v-for="(one, n) in found.data.value.differences" :key="n">
      <span :class="one.what">{{ WORDS[one.what] }}</span> {{ one.number }} {{ one.sentence }}
      <span v-if="one.step" class="quiet mono"
        >{{ one.step }}<template v-if="one.before">, was {{ one.before }}</template></span
      >
      <ul v-if="one.fields.length">
        <li v-for="field in one.fields" :key="field.name" class="field">
          {{ field.name }}: <del>{{ said(field.before) }}</del> → <ins>{{ said(field.after) }}</ins>
        </li>
      </ul>
    </li>
    <li v-if="found.data.value.more" class="quiet">and {{ found.data.value.more }} more</li>
  </ul>
</template>

<style scoped>
.differences {
  padding-left: 1.2rem;
}
.added {
  color: var(--relay-succeeded);
}
.removed {
  color: var(--relay-failed);
}
.changed,
.renamed,
.moved {
  color: var(--relay-waiting);
}
.field {
  font-size: 0.9rem;
  overflow-wrap: anywhere;
}
del {
  color: var(--relay-quiet);
}
ins {
  text-decoration: none;
}
</style>
