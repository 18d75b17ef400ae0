<script setup lang="ts">
import { defaultKeymap, indentWithTab } from '@codemirror/commands'
import { bracketMatching, foldGutter, foldKeymap, indentUnit } from '@codemirror/language'
import { lintGutter, setDiagnostics } from '@codemirror/lint'
import { search, searchKeymap } from '@codemirror/search'
import { Annotation, Compartment, EditorState } from '@codemirror/state'
import { drawSelection, EditorView, highlightActiveLine, keymap } from '@codemirror/view'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Finding } from '../api/client'
import { between } from '../edit/changes'
import type { Source } from '../edit/source'
import { theme } from '../lib/theme'
import type { Help } from '../workflow/complete'
import { editorHelp } from './editorHelp'
import { documentLook, highlight } from './editorLook'

const text = defineModel<string>({ required: true })
const props = defineProps<{ findings: Finding[]; help: Help; source: Source | null }>()
/** `at`: the reader has put the cursor there, as an offset of the text. */
const emit = defineEmits<{ save: []; undo: []; redo: []; at: [offset: number] }>()
const place = ref<HTMLElement>()
let view: EditorView | undefined
const colours = new Compartment()
/** Marks what was written elsewhere. */
const given = Annotation.define<boolean>()

onMounted(() => {
  view = new EditorView({
    parent: place.value!,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        documentLook,
        foldGutter(),
        search({ top: true }),
        drawSelection(),
        highlightActiveLine(),
        bracketMatching(),
        indentUnit.of('  '),
        lintGutter(),
        colours.of(highlight()),
        EditorView.contentAttributes.of({ 'aria-label': 'The workflow document', tabindex: '0' }),
        editorHelp(() => ({ help: props.help, source: props.source })),
        keymap.of([
          { key: 'Mod-s', run: () => (send(), emit('save'), true) },
          { key: 'Mod-z', run: () => (send(), emit('undo'), true), shift: () => (send(), emit('redo'), true) },
          { key: 'Mod-y', run: () => (send(), emit('redo'), true) },
          ...searchKeymap,
          ...foldKeymap,
          ...defaultKeymap,
          indentWithTab,
        ]),
        EditorView.domEventHandlers({ blur: send }),
        EditorView.updateListener.of((update) => {
          if (update.docChanged && update.transactions.some((one) => !one.annotation(given))) later()
          else if (update.selectionSet && update.view.hasFocus && update.transactions.some((one) => one.isUserEvent('select')))
            emit('at', update.state.selection.main.head)
        }),
      ],
    }),
  })
  mark()
})
onBeforeUnmount(() => {
  send()
  view?.destroy()
})

/** What is typed is shown first, and told to the rest of the page behind that. */
let frame = 0
let timer: number | undefined
let ahead = false
function later(): void {
  if (ahead) return
  ahead = true
  frame = requestAnimationFrame(() => (timer = window.setTimeout(send)))
  if (document.hidden) send()
}
function send(): void {
  cancelAnimationFrame(frame)
  window.clearTimeout(timer)
  if (ahead && view) text.value = view.state.doc.toString()
  ahead = false
}
watch(text, (now) => {
  if (view && !ahead) view.dispatch({ changes: between(view.state.doc.toString(), now), annotations: given.of(true) })
})
watch(theme, () => view?.dispatch({ effects: colours.reconfigure(highlight()) }))
watch(() => props.findings, mark)

function mark(): void {
  if (!view) return
  const document = view.state.doc
  view.dispatch(
    setDiagnostics(
      view.state,
      props.findings.map((finding) => {
        const line = document.line(Math.min(Math.max(finding.line, 1), document.lines))
        const from = Math.min(line.from + finding.column - 1, line.to)
        return { from, to: line.to, severity: finding.severity as 'error' | 'warning', message: `${finding.message}. ${finding.fix}` }
      }),
    ),
  )
}

/** Put the cursor at a line (from 1) and show it; quietly, the keys stay where they are. */
function goTo(number: number, quietly = false): void {
  if (!view) return
  const line = view.state.doc.line(Math.min(Math.max(number, 1), view.state.doc.lines))
  view.dispatch({ selection: { anchor: line.from }, effects: EditorView.scrollIntoView(line.from, { y: 'center' }) })
  if (!quietly) view.focus()
}
defineExpose({ goTo })
</script>

<template><div ref="place" class="editor" /></template>

<style scoped>
.editor {
  border: 1px solid var(--relay-line);
  background: var(--bs-body-bg);
}
.editor :deep(.cm-editor) {
  max-height: 70vh;
}
.editor :deep(.cm-tooltip-autocomplete > ul > li[aria-selected]) {
  background: var(--bs-primary);
  color: var(--bs-body-bg);
}
.editor :deep(.told) {
  padding: 0.3rem 0.6rem;
  max-width: 26rem;
}
.editor :deep(.cm-tooltip) {
  background: var(--bs-body-bg);
  color: var(--bs-body-color);
  border-color: var(--relay-line);
}
</style>
