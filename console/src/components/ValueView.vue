<script setup lang="ts">
import { computed, defineAsyncComponent, ref } from 'vue'
import { addressOf, filesIn, lookOf, size } from '../lib/files'
import { shown } from '../lib/format'
import { isWritten, tableOf } from '../lib/reading'
import FilePreview from './FilePreview.vue'
import ValueTree from './ValueTree.vue'

/** A value as what it is, to be read, searched, copied and taken down: a table, a text with its layout, a tree; with the files in it, pictures
 * as pictures. `expression` leads to it, where it has one. */
const props = withDefaults(defineProps<{ value: unknown; name?: string; expression?: string }>(), { name: 'value', expression: '' })
const WrittenText = defineAsyncComponent(() => import('./WrittenText.vue'))
const LONG = 1500
const files = computed(() => filesIn(props.value))
const open = ref<Record<string, boolean>>({})
const table = computed(() => tableOf(props.value))
const written = computed(() => isWritten(props.value))
const raw = ref(false)
const words = ref('')
const said = ref('')
const text = computed(() => shown(props.value))
const plain = computed(() => props.value === null || typeof props.value !== 'object')
const searched = computed(() => !plain.value && text.value.length > LONG)
const wordsFor = computed(() => (table.value ? 'as a table' : 'as it reads'))
async function copy(given: string): Promise<void> {
  await navigator.clipboard.writeText(given)
  said.value = given === text.value ? 'Copied.' : `Copied ${given}`
  window.setTimeout(() => (said.value = ''), 2000)
}
function download(): void {
  const json = typeof props.value !== 'string'
  const url = URL.createObjectURL(new Blob([text.value], { type: json ? 'application/json' : 'text/plain' }))
  const link = document.createElement('a')
  link.href = url
  link.download = `${props.name}.${json ? 'json' : 'txt'}`
  link.click()
  URL.revokeObjectURL(url)
}
</script>

<template>
  <div class="value">
    <div class="hands">
      <button v-if="table || written" type="button" class="btn btn-link btn-sm" @click="raw = !raw">{{ raw ? wordsFor : 'as data' }}</button>
      <input
        v-if="searched"
        v-model="words"
        type="search"
        class="form-control form-control-sm"
        placeholder="find in it"
        aria-label="Find in this value" />
      <span v-if="said" class="quiet" role="status">{{ said }}</span>
      <button type="button" class="btn btn-link btn-sm" aria-label="Copy this value" @click="copy(text)">Copy</button>
      <button type="button" class="btn btn-link btn-sm" aria-label="Download this value" @click="download">Download</button>
    </div>
    <div v-if="table && !raw" class="scroll" tabindex="0" role="region" aria-label="The value as a table">
      <table class="table table-sm">
        <thead>
          <tr>
            <th v-for="column in table.columns" :key="column">{{ column }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, at) in table.rows" :key="at">
            <td v-for="(cell, index) in row" :key="index" :class="{ num: typeof cell === 'number' }">{{ cell ?? '' }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="table.all > table.rows.length" class="quiet">The first {{ table.rows.length }} of {{ table.all.toLocaleString() }} rows.</p>
    </div>
    <WrittenText v-else-if="written && !raw" :text="text" />
    <pre v-else-if="typeof value === 'string'" tabindex="0">{{ value }}</pre>
    <ValueTree v-else :value="value" :expression="expression" :words="words" @copy="copy" />
  </div>
  <ul v-if="files.length" class="files" aria-label="Files in it">
    <li v-for="one in files" :key="one.file + one.name">
      <a :href="addressOf(one)" target="_blank" rel="noopener">
        <FilePreview v-if="lookOf(one) === 'picture'" :file="one" named />
        {{ one.name }}
      </a>
      <span class="quiet ms-1">{{ one.type }}, {{ size(one.size) }}</span>
      <details v-if="lookOf(one) && lookOf(one) !== 'picture'" @toggle="open = { ...open, [one.file]: true }">
        <summary>Look at it</summary>
        <FilePreview v-if="open[one.file]" :file="one" />
      </details>
    </li>
  </ul>
</template>

<style scoped>
.value {
  background: var(--bs-tertiary-bg);
  padding: 0.3rem 0.7rem 0.5rem;
}
.hands {
  display: flex;
  flex-wrap: wrap;
  justify-content: flex-end;
  align-items: center;
  gap: 0 0.25rem;
  margin-bottom: -0.3rem;
}
.hands .btn {
  padding: 0 0.3rem;
}
.hands .form-control {
  max-width: 12rem;
  margin-right: auto;
}
pre,
.scroll {
  max-height: 22rem;
  overflow: auto;
}
.files {
  list-style: none;
  padding: 0;
}
a {
  overflow-wrap: anywhere;
}
</style>
