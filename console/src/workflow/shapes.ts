import { talks } from '../edit/scope'
import { everyStep } from '../edit/steps'
import type { Source } from '../edit/source'
import { reference } from '../edit/expressions'
import type { Schema } from './fields'
import type { Language } from './language'

const fields = (...names: string[]): Schema => ({ type: 'object', properties: Object.fromEntries(names.map((name) => [name, {}])) })
/** The conversation of a run, and what is said in it. */
const TALK: Schema = {
  ...fields('key', 'first', 'facts'),
  properties: { ...fields('key', 'first', 'facts').properties, person: fields('id', 'name', 'address', 'language') },
}
const SAID: Schema = {
  ...fields('text', 'choice', 'command'),
  properties: { ...fields('text', 'choice', 'command').properties, parts: { type: 'array' } },
}

/** The shapes of what may be used: of the input and settings, and of what each step gives. */
export function shapesOf(source: Source | null, language: Language): Record<string, Schema> {
  if (!source) return {}
  const actions = language.actions.value
  const found: Record<string, Schema> = {}
  for (const name of ['input', 'settings']) found[name] = (source.value([name]) ?? {}) as Schema
  if (talks(source)) {
    found.conversation = TALK
    if (!source.value(['input'])) found.input = SAID
  }
  for (const path of everyStep(source)) {
    const step = source.value(path) as Record<string, unknown>
    const name = String(step.step)
    const gives = (step.with as { gives?: Schema } | undefined)?.gives
    if (typeof step.do === 'string') {
      const output = (actions.find((one) => one.name === step.do)?.output ?? {}) as Schema
      found[name] = gives?.properties ? { ...output, properties: { ...output.properties, data: gives } } : output
      const columns = step.do === 'table.find' ? language.columns.value.get(String((step.with as { table?: unknown })?.table)) : undefined
      if (columns) found[name] = { properties: { ...output.properties, rows: { type: 'array', items: shapeOf(columns) } } }
    } else if (step.set && typeof step.set === 'object')
      found[name] = { properties: Object.fromEntries(Object.keys(step.set).map((key) => [key, {}])) }
    else if ('each' in step) {
      found[name] = { type: 'array' }
      const list = typeof step.each === 'string' ? reference(step.each) : null
      const of = list?.slice(1).reduce<Schema | undefined>((at, key) => at?.properties?.[key], found[list[0]!])
      if (of?.items && typeof step.as === 'string') found[step.as] = of.items
    } else if ('ask' in step)
      found[name] = { properties: Object.fromEntries(['choice', 'data', 'text', 'by', 'at', 'expired'].map((key) => [key, {}])) }
    else if ('hand_over' in step) found[name] = { properties: Object.fromEntries(['text', 'by', 'at', 'expired'].map((key) => [key, {}])) }
    else if (step.together && typeof step.together === 'object')
      found[name] = { properties: Object.fromEntries(Object.keys(step.together).map((key) => [key, {}])) }
  }
  return found
}

function shapeOf(columns: readonly string[]): Schema {
  return { properties: Object.fromEntries(columns.map((name) => [name, {}])) }
}
