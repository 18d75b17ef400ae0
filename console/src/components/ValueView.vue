<script setup lang="ts">
import { computed, ref } from 'vue'
import { addressOf, filesIn, lookOf, size } from '../lib/files'
import { shown } from '../lib/format'
import FilePreview from './FilePreview.vue'

/** A value as text, with the files in it: pictures as pictures, the others to be opened or taken down. */
const props = defineProps<{ value: unknown }>()
const files = computed(() => filesIn(props.value))
const open = ref<Record<string, boolean>>({})
</script>

<template>
  <pre>{{ shown(value) }}</pre>
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
.files {
  list-style: none;
  padding: 0;
}
a {
  overflow-wrap: anywhere;
}
</style>
