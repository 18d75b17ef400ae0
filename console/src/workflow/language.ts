import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, data } from '../api/client'
import { every } from '../lib/lists'
import { fieldsOf, type FieldShape, plain, type Schema, widgetOf } from './fields'

/** What a document may say here: the schema of the language, the actions, and what things are called. */
export function useLanguage() {
  const schema = useQuery({
    queryKey: ['language'],
    staleTime: Infinity,
    queryFn: async () => (await (await fetch('/schema/workflow.json')).json()) as Schema,
  })
  const actions = useQuery({
    queryKey: ['actions'],
    queryFn: () => every((query) => data(api.GET('/api/v1/actions', { params: { query } }))),
  })
  const models = useQuery({ queryKey: ['models'], queryFn: () => every((query) => data(api.GET('/api/v1/models', { params: { query } }))) })
  const credentials = useQuery({
    queryKey: ['credentials'],
    queryFn: () => every((query) => data(api.GET('/api/v1/credentials', { params: { query } }))),
  })
  const tables = useQuery({ queryKey: ['tables'], queryFn: () => every((query) => data(api.GET('/api/v1/tables', { params: { query } }))) })
  const servers = useQuery({ queryKey: ['servers'], queryFn: () => every((query) => data(api.GET('/api/v1/servers', { params: { query } }))) })
  const workflows = useQuery({
    queryKey: ['workflows', 'all'],
    queryFn: () => every((query) => data(api.GET('/api/v1/workflows', { params: { query } }))),
  })
  const known = computed<Record<string, string[]>>(() => ({
    model: (models.data.value ?? []).map((one) => one.name),
    credential: (credentials.data.value ?? []).map((one) => one.name),
    table: (tables.data.value ?? []).map((one) => one.name),
    server: (servers.data.value ?? []).map((one) => one.name),
    workflow: (workflows.data.value ?? []).map((one) => one.name),
  }))
  return {
    schema: computed(() => schema.data.value ?? {}),
    actions: computed(() => actions.data.value ?? []),
    workflows: computed(() => workflows.data.value ?? []),
    /** The columns of each table. */
    columns: computed(() => new Map((tables.data.value ?? []).map((one) => [one.name, one.columns.map((column) => column.name)]))),
    known,
  }
}
export type Language = ReturnType<typeof useLanguage>

/** A field of a form, and where in the document it is written. */
export interface Placed {
  field: FieldShape
  at: (string | number)[]
  /** Shown behind “more”. */
  more: boolean
}
const COMMON = new Set(['step', 'note', 'when', 'once', 'timeout', 'retry', 'on_error', 'unknown', 'steps', 'branch', 'together', 'do'])

/** The model of a kind of step in the schema of the language. */
export function modelOf(kind: string, root: Schema): Schema {
  const found = Object.values(root.$defs ?? {}).find((one) => one.properties?.step && one.properties[kind] && one.required?.includes(kind))
  return found ?? {}
}

/** The fields of what a step does, each with its place below the step. */
export function stepFields(kind: string, root: Schema, action: { input: Record<string, unknown>; first: string[] } | undefined): Placed[] {
  if (kind === 'do') {
    const input = action?.input as Schema | undefined
    if (!input) return []
    const needed = new Set([...(action?.first ?? []), ...(input.required ?? [])])
    return fieldsOf(input, input, action?.first)
      .flatMap((field) => flattened(field, input))
      .map(({ field, at }) => ({
        field,
        at: ['with', ...at],
        more: needed.size > 0 && !needed.has(at[0]!),
      }))
  }
  const model = modelOf(kind, root)
  const own = fieldsOf(model, root).filter((field) => !COMMON.has(field.name))
  return own.flatMap((field): Placed[] => {
    const schema = objectOf(field.schema, root)
    if (field.name !== kind || !schema)
      return [{ field: { ...field, widget: field.name === 'with' || field.name === 'set' ? 'pairs' : field.widget }, at: [field.name], more: false }]
    return fieldsOf(schema, root)
      .filter((one) => one.name !== 'tell' && one.name !== 'aside')
      .map((inner) => ({
        field: inner,
        at: [field.name, inner.name],
        more: !inner.required && !['text', 'choices', 'body', 'data'].includes(inner.name),
      }))
  })
}

/** A field, or where it is a mapping with fields of its own, those. */
function flattened(field: FieldShape, root: Schema): { field: FieldShape; at: string[] }[] {
  const schema = field.name === 'gives' || field.name === 'tools' ? null : objectOf(field.schema, root)
  if (!schema) return [{ field, at: [field.name] }]
  return fieldsOf(schema, root).map((inner) => ({
    field: { ...inner, title: `${field.title}: ${inner.title.toLowerCase()}`, required: false },
    at: [field.name, inner.name],
  }))
}

function objectOf(schema: Schema, root: Schema): Schema | null {
  const found = plain(schema, root)
  return found.properties && widgetOf('', found, root) === 'group' ? found : null
}
