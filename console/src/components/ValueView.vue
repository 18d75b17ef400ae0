<script setup lang="ts">
import { computed } from 'vue'
import { addressOf, filesIn, size } from '../lib/files'
import { shown } from '../lib/format'

/** A value as text, with the files in it: pictures as pictures, the others to be opened or taken down. */
const props = defineProps<{ value: unknown }>()
const files = computed(() => filesIn(props.value))
const PICTURES = new Set(['image/gif', 'image/jpeg', 'image/png', 'image/webp'])
</script>

<template>
  <pre>{{ shown(value) }}</pre>
  <ul v-if="files.length" class="files" aria-label="Files in it">
    <li v-for="one in files" :key="one.file + one.name">
      <a :href="addressOf(one)" target="_blank" rel="noopener">
        <img v-if="PICTURES.has(one.type)" :src="addressOf(one)" alt="" loading="lazy" />
        {{ one.name }}
      </a>
      <span class="quiet ms-1">{{ one.type }}, {{ size(one.size) }}</span>
    </li>
  </ul>
</template>

<style scoped>
.files {
  list-style: none;
  padding: 0;
}
img {
  display: block;
  max-width: 100%;
  max-height: 16rem;
  border: 1px solid var(--relay-line);
}
a {
  overflow-wrap: anywhere;
}
</style>
