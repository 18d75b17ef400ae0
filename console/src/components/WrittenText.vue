<script setup lang="ts">
import MarkdownIt from 'markdown-it'
import { computed } from 'vue'

/** A text in Markdown (CommonMark) as it is meant to be read. What looks like HTML stays text, and pictures are links: nothing is fetched
 * from anywhere. */
const props = defineProps<{ text: string }>()
const reader = new MarkdownIt({ html: false, linkify: false })
reader.disable('image')
reader.renderer.rules.link_open = (tokens, index, options, _, self) => {
  tokens[index]!.attrSet('target', '_blank')
  tokens[index]!.attrSet('rel', 'noopener noreferrer')
  return self.renderToken(tokens, index, options)
}
const html = computed(() => reader.render(props.text))
</script>

<template>
  <!-- eslint-disable-next-line vue/no-v-html -- made by the reader above, which lets no HTML through -->
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
