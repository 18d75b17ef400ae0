import { yaml } from '@codemirror/lang-yaml'
import { defaultHighlightStyle, HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { EditorState, type Extension } from '@codemirror/state'
import { EditorView, lineNumbers } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { theme } from '../lib/theme'

const dark = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: '#dcb577' },
  { tag: [tags.string, tags.content], color: '#c9d8b8' },
  { tag: tags.comment, color: '#b3a38c', fontStyle: 'italic' },
  { tag: [tags.number, tags.bool, tags.null, tags.keyword], color: '#8fb3d6' },
])
const light = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: '#6b4a1f' },
  { tag: [tags.string, tags.content], color: '#3d5a2f' },
  { tag: tags.comment, color: '#665a4f', fontStyle: 'italic' },
  { tag: [tags.number, tags.bool, tags.null, tags.keyword], color: '#3a5f83' },
])

/** The colours of a document, for the present theme. */
export const highlight = () => syntaxHighlighting(theme.value === 'dark' ? dark : light)

const frame = EditorView.theme({
  '&': { fontSize: '0.84rem' },
  '.cm-scroller': { fontFamily: 'var(--bs-font-monospace)', lineHeight: '1.55', overflow: 'auto' },
  '.cm-gutters': { background: 'var(--bs-tertiary-bg)', color: 'var(--relay-quiet)', borderRight: '1px solid var(--relay-line)' },
  '.cm-activeLine': { background: 'color-mix(in srgb, var(--bs-tertiary-bg) 60%, transparent)' },
  '.cm-cursor': { borderLeftColor: 'var(--bs-body-color)' },
})
/** What every view of a text has that a machine reads. */
export const codeLook: Extension = [
  frame,
  lineNumbers(),
  EditorState.lineSeparator.of('\n'),
  syntaxHighlighting(defaultHighlightStyle, { fallback: true }),
  EditorView.lineWrapping,
]
/** What every view of a document has. */
export const documentLook: Extension = [codeLook, yaml()]
