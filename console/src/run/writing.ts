import { computed, type ComputedRef, shallowRef } from 'vue'
import type { Piece } from '../lib/live'
import type { Brief } from './timeline'

/** What models are just writing: told in pieces; another attempt begins anew, and the record takes their place. */
export function useWriting(spans: ComputedRef<readonly Brief[]>) {
  const written = shallowRef<Record<string, Piece>>({})
  let frame = 0
  let next: Record<string, Piece> = {}
  function write(piece: Piece): void {
    const before = next[piece.path]
    const text = before?.attempt === piece.attempt ? before.text.slice(0, piece.at) : ''
    next = { ...next, [piece.path]: { ...piece, text: text + piece.text } }
    frame ||= requestAnimationFrame(() => {
      frame = 0
      written.value = next
    })
  }
  const states = computed(() => new Map(spans.value.map((span) => [span.path, span])))
  const pieces = computed(() =>
    Object.values(written.value).filter((piece) => {
      const span = states.value.get(piece.path.replace(/\/.*$/, ''))
      return !span || (span.state === 'running' && (piece.path.includes('/') || span.tried <= piece.attempt))
    }),
  )
  return { write, pieces }
}
