<script setup lang="ts">
import { MergeView } from '@codemirror/merge'
import { EditorState } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import { theme } from '../lib/theme'
import { documentLook, highlight } from './editorLook'

/** Two texts side by side, with what differs marked. The right one can be written in, and takes over a part of the left one by an arrow. */
const props = defineProps<{ left: string; leftTitle: string; rightTitle: string; fixed?: boolean }>()
const right = defineModel<string>('right', { required: true })
const place = useTemplateRef<HTMLElement>('place')
let view: MergeView | undefined

function look(title: string, fixed: boolean) {
  return [
    documentLook,
    highlight(),
    EditorView.contentAttributes.of({ 'aria-label': title, tabindex: '0' }),
    ...(fixed ? [EditorState.readOnly.of(true), EditorView.editable.of(false)] : []),
  ]
}
function show(): void {
  view?.destroy()
  view = new MergeView({
    parent: place.value!,
    a: { doc: props.left, extensions: look(props.leftTitle, true) },
    b: {
      doc: right.value,
      extensions: [
        look(props.rightTitle, !!props.fixed),
        EditorView.updateListener.of((update) => void (update.docChanged && (right.value = update.state.doc.toString()))),
      ],
    },
    ...(props.fixed ? {} : { revertControls: 'a-to-b' as const, renderRevertControl: arrow }),
    collapseUnchanged: { margin: 3, minSize: 6 },
    gutter: true,
  })
}
function arrow(): HTMLElement {
  return Object.assign(document.createElement('button'), {
    type: 'button',
    textContent: '→',
    title: 'Take this part over',
    ariaLabel: 'Take this part over',
  })
}
onMounted(show)
onBeforeUnmount(() => view?.destroy())
watch([() => props.left, theme], show)
watch(right, (now) => void (now !== view?.b.state.doc.toString() && show()))
</script>

<template>
  <div class="merge">
    <div class="titles">
      <h3>{{ leftTitle }}</h3>
      <h3>{{ rightTitle }}</h3>
    </div>
    <div ref="place" class="texts" />
  </div>
</template>

<style scoped>
.titles {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 1rem;
}
h3 {
  font-size: 1rem;
}
.texts {
  border: 1px solid var(--relay-line);
  max-height: 60vh;
  overflow: auto;
  margin-bottom: 0.75rem;
  font-size: 0.84rem;
}
.texts :deep(.cm-scroller) {
  font-family: var(--bs-font-monospace);
}
.texts :deep(.cm-gutters),
.texts :deep(.cm-collapsedLines) {
  background: var(--bs-tertiary-bg);
  color: var(--relay-quiet);
}
.texts :deep(.cm-collapsedLines)::before,
.texts :deep(.cm-collapsedLines)::after {
  content: '…';
}
.texts :deep(.cm-merge-revert button) {
  color: var(--bs-link-color);
}
.texts :deep(.cm-changedLine),
.texts :deep(.cm-deletedChunk) {
  background: color-mix(in srgb, var(--relay-waiting) 14%, transparent);
}
.texts :deep(.cm-changedText) {
  background: none;
  text-decoration: underline 2px var(--relay-waiting);
}
</style>
