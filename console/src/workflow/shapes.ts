import { everyStep } from '../edit/steps'
import type { Source } from '../edit/source'
import type { Action } from './catalogue'
import type { Schema } from './fields'

/** The shapes of what may be used: of the input and settings, and of what each step gives. */
export function shapesOf(source: Source | null, actions: Action[]): Record<string, Schema> {
  if (!source) return {}
  const found: Record<string, Schema> = {}
  for (const name of ['input', 'settings']) found[name] = (source.value([name]) ?? {}) as Schema
  for (const path of everyStep(source)) {
    const step = source.value(path) as Record<string, unknown>
    const name = String(step.step)
    const gives = (step.with as { gives?: Schema } | undefined)?.gives
    if (typeof step.do === 'string') {
      const output = (actions.find((one) => one.name === step.do)?.output ?? {}) as Schema
      found[name] = gives?.properties ? { ...output, properties: { ...output.properties, data: gives } } : output
    } else if (step.set && typeof step.set === 'object')
      found[name] = { properties: Object.fromEntries(Object.keys(step.set).map((key) => [key, {}])) }
    else if ('each' in step) found[name] = { type: 'array' }
    else if ('ask' in step)
      found[name] = { properties: Object.fromEntries(['choice', 'data', 'text', 'by', 'at', 'expired'].map((key) => [key, {}])) }
    else if (step.together && typeof step.together === 'object')
      found[name] = { properties: Object.fromEntries(Object.keys(step.together).map((key) => [key, {}])) }
  }
  return found
}
