<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { addressOf, beginning, type FileValue, lookOf } from '../lib/files'
import LoadingLines from './LoadingLines.vue'
import ProblemNote from './ProblemNote.vue'

/** A file as what it is: a picture, a document, a table, a text; of a large one its beginning. `named` where its name stands beside it. */
const props = defineProps<{ file: FileValue; named?: boolean }>()
const ROWS = 50
const look = computed(() => lookOf(props.file))
const text = ref('')
const rows = ref<string[][]>([])
const whole = ref(true)
const problem = ref<Error | null>(null)
const loading = ref(false)

watch(
  () => `${props.file.file} ${look.value}`,
  async () => {
    if (look.value !== 'text' && look.value !== 'sheet') return
    loading.value = true
    problem.value = null
    try {
      const begun = await beginning(props.file)
      whole.value = begun.whole
      if (look.value === 'text') text.value = begun.text
      else {
        const { parse } = (await import('papaparse')).default
        const read = parse<string[]>(begun.text, { preview: ROWS + 1, skipEmptyLines: true })
        rows.value = read.data
        whole.value = begun.whole && !read.meta.truncated
      }
    } catch (error) {
      problem.value = error as Error
    } finally {
      loading.value = false
    }
  },
  { immediate: true },
)
</script>

<template>
  <ProblemNote v-if="problem" :problem="problem" />
  <LoadingLines v-else-if="loading" />
  <img v-else-if="look === 'picture'" :src="addressOf(file)" :alt="named ? '' : file.name" loading="lazy" />
  <iframe v-else-if="look === 'document'" :src="addressOf(file)" :title="file.name"></iframe>
  <template v-else-if="look === 'sheet'">
    <div class="sheet" tabindex="0" role="region" :aria-label="file.name">
      <table class="table table-sm">
        <thead>
          <tr>
            <th v-for="(cell, n) in rows[0] ?? []" :key="n">{{ cell }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, n) in rows.slice(1)" :key="n">
            <td v-for="(cell, m) in row" :key="m">{{ cell }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="!whole" class="quiet">Its first rows.</p>
  </template>
  <template v-else-if="look === 'text'">
    <pre tabindex="0" :aria-label="file.name">{{ text }}</pre>
    <p v-if="!whole" class="quiet">Its beginning.</p>
  </template>
  <p v-else class="quiet">It cannot be looked at here.</p>
</template>

<style scoped>
img {
  display: block;
  max-width: 100%;
  max-height: 16rem;
  border: 1px solid var(--relay-line);
}
iframe {
  width: 100%;
  height: 70vh;
  border: 1px solid var(--relay-line);
}
pre,
.sheet {
  max-height: 24rem;
  overflow: auto;
}
td,
th {
  max-width: 20rem;
  overflow-wrap: anywhere;
}
</style>
