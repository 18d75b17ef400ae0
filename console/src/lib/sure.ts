import { shallowRef } from 'vue'

interface Question {
  title: string
  text: string
  ok: string
  answer: (sure: boolean) => void
}
/** What is asked before something that cannot be undone. */
export const question = shallowRef<Question | null>(null)

/** Whether somebody is sure. */
export function sure(title: string, text: string, ok: string): Promise<boolean> {
  question.value?.answer(false)
  return new Promise((resolve) => {
    question.value = {
      title,
      text,
      ok,
      answer: (given) => {
        question.value = null
        resolve(given)
      },
    }
  })
}
