<script setup lang="ts">
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { python } from '@codemirror/lang-python'
import { bracketMatching, indentOnInput, indentUnit } from '@codemirror/language'
import { lintGutter, setDiagnostics } from '@codemirror/lint'
import { Annotation, Compartment, EditorState } from '@codemirror/state'
import { drawSelection, EditorView, highlightActiveLine, keymap } from '@codemirror/view'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { between } from '../edit/changes'
import { theme } from '../lib/theme'
import type { Mark } from '../workflow/fields'
import { codeLook, highlight } from './editorLook'

/** A function in Python, with its mistakes marked at their lines. Tab writes spaces; Escape, then Tab leaves it. */
const props = defineProps<{ id: string; name: string; value: string; marks: Mark[] }>()
const emit = defineEmits<{ change: [value: string] }>()
const place = ref<HTMLElement>()
let view: EditorView | undefined
const colours = new Compartment()
const given = Annotation.define<boolean>()
let timer: number | undefined
let ahead = false

onMounted(() => {
  view = new EditorView({
    parent: place.value!,
    state: EditorState.create({
      doc: props.value,
      extensions: [
        codeLook,
        python(),
        history(),
        drawSelection(),
        highlightActiveLine(),
        bracketMatching(),
        indentOnInput(),
        indentUnit.of('    '),
        lintGutter(),
        colours.of(highlight()),
        EditorView.contentAttributes.of({ id: props.id, 'aria-label': props.name, tabindex: '0' }),
        keymap.of([...historyKeymap, ...defaultKeymap, indentWithTab]),
        EditorView.domEventHandlers({ blur: send }),
        EditorView.updateListener.of((update) => {
          if (!update.docChanged || update.transactions.every((one) => one.annotation(given))) return
          ahead = true
          window.clearTimeout(timer)
          timer = window.setTimeout(send, 350)
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
function send(): void {
  window.clearTimeout(timer)
  if (ahead && view) emit('change', view.state.doc.toString())
  ahead = false
}
watch(
  () => props.value,
  (now) => {
    if (view && !ahead) view.dispatch({ changes: between(view.state.doc.toString(), now), annotations: given.of(true) })
  },
)
watch(theme, () => view?.dispatch({ effects: colours.reconfigure(highlight()) }))
watch(() => props.marks, mark)

function mark(): void {
  if (!view) return
  const text = view.state.doc
  view.dispatch(
    setDiagnostics(
      view.state,
      props.marks.map((one) => {
        const line = text.line(Math.min(Math.max(one.line, 1), text.lines))
        return { from: line.from + (/^\s*/.exec(line.text)?.[0].length ?? 0), to: line.to, severity: 'error', message: one.message }
      }),
    ),
  )
}
</script>

<template>
  <div ref="place" class="editor" />
  <div role="status">
    <p v-for="(one, index) in marks" :key="index" class="mark text-danger">{{ one.line ? `line ${one.line}: ` : '' }}{{ one.message }}</p>
  </div>
</template>

<style scoped>
.editor {
  border: 1px solid var(--relay-quiet);
  border-radius: 0.25rem;
  background: var(--bs-body-bg);
}
.editor :deep(.cm-editor) {
  max-height: 55vh;
  min-height: 8rem;
}
.mark {
  margin: 0.2rem 0 0;
  font-size: 0.85rem;
}
</style>
