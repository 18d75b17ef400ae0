import { watch } from 'vue'
import { setValue } from '../edit/values'
import { FIRST, FIRST_AGENT } from '../lib/first'
import type { Draft } from './draft'
import type { Language } from './language'

/** What a new document of a kind begins with. */
export function beginningOf(kind: unknown): string {
  return kind === 'agent' ? FIRST_AGENT : FIRST
}

/** Gives a new agent a model that is there, once it is known which there are. */
export function useBeginning(draft: Draft, language: Language): void {
  watch(
    () => language.known.value.model?.[0],
    (model) => {
      if (model && draft.source.value?.value(['model']) === 'MODEL') draft.edit((source) => setValue(source, ['model'], model))
    },
    { immediate: true },
  )
}
