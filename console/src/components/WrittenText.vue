<script setup lang="ts">
import { computed } from 'vue'
import { written } from '../lib/written'

/** A text in Markdown as it is meant to be read. */
const props = defineProps<{ text: string }>()
const html = computed(() => written(props.text))
</script>

<template>
  <!-- eslint-disable-next-line vue/no-v-html -- made by a reader that lets no HTML through -->
  <div class="written" v-html="html" />
</template>

<style scoped>
.written {
  overflow-wrap: anywhere;
  max-height: 30rem;
  overflow: auto;
}
.written :deep(h1),
.written :deep(h2),
.written :deep(h3) {
  font-size: 1.05rem;
  margin: 0.6rem 0 0.3rem;
}
.written :deep(p),
.written :deep(ul) {
  margin-bottom: 0.5rem;
}
.written :deep(table) {
  border-collapse: collapse;
}
.written :deep(td),
.written :deep(th) {
  border: 1px solid var(--relay-line);
  padding: 0.1rem 0.5rem;
}
</style>
