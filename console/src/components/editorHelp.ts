import { autocompletion, type CompletionContext, type CompletionResult, completionKeymap } from '@codemirror/autocomplete'
import type { Extension } from '@codemirror/state'
import { hoverTooltip, keymap } from '@codemirror/view'
import type { Source } from '../edit/source'
import { complete, type Help, hover } from '../workflow/complete'

/** Completion and hover in the editor, from the language, what there is, and the present sample. */
export function editorHelp(known: () => { help: Help; source: Source | null } | undefined): Extension {
  function completions(context: CompletionContext): CompletionResult | null {
    const at = known()
    const line = context.state.doc.lineAt(context.pos)
    if (!at || (!context.explicit && !/[\w.:|{-]\s?$/.test(line.text.slice(0, context.pos - line.from)))) return null
    const found = complete(context.state.doc.toString(), context.pos, at.source, at.help)
    return found && { from: found.from, options: found.options, validFor: /^[\w.[\]'-]*$/ }
  }
  return [
    autocompletion({ override: [completions], icons: false, maxRenderedOptions: 60 }),
    keymap.of(completionKeymap),
    hoverTooltip((view, pos) => {
      const at = known()
      const found = at && hover(view.state.doc.toString(), pos, at.source, at.help)
      if (!found) return null
      return {
        pos: found.from,
        end: found.to,
        create() {
          const dom = document.createElement('div')
          dom.className = 'told'
          dom.append(Object.assign(document.createElement('strong'), { textContent: found.title }))
          if (found.about) dom.append(document.createElement('br'), found.about)
          return { dom }
        },
      }
    }),
  ]
}
