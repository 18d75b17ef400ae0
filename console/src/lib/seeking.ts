import { onBeforeUnmount, shallowRef } from 'vue'

/** Something that the search finds, and what is done with it. */
export interface Find {
  key: string
  title: string
  about: string
  go: () => unknown
}
/** What the page that is open has to find. */
const here = shallowRef<(() => Find[]) | null>(null)

/** Let the search find what a page holds, as long as that one is open. */
export function useFinds(finds: () => Find[]): void {
  here.value = finds
  onBeforeUnmount(() => {
    if (here.value === finds) here.value = null
  })
}
export const findsHere = (): Find[] => here.value?.() ?? []

/** Those in which every word begins one of theirs or stands in it, the ones whose title begins with it first. */
export function matching(all: readonly Find[], typed: string, most: number): Find[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean)
  const scored = all.flatMap((one) => {
    const text = `${one.title} ${one.about}`.toLowerCase()
    if (!words.every((word) => text.includes(word))) return []
    return [{ one, score: one.title.toLowerCase().startsWith(words[0] ?? '') ? 0 : 1 }]
  })
  return scored
    .sort((a, b) => a.score - b.score)
    .slice(0, most)
    .map(({ one }) => one)
}
