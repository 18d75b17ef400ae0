import { type InfiniteData, useQueryClient } from '@tanstack/vue-query'
import { computed, onScopeDispose, type Ref, ref, watch } from 'vue'
import { api, data, type Run } from '../api/client'
import type { operations } from '../api/schema'
import { type Part, useList } from '../lib/lists'
import { useLive, useSoon } from '../lib/live'

export const KEYS = ['workflow', 'state', 'subject', 'text', 'error_kind', 'since', 'from', 'until'] as const
export type Filter = Partial<Record<(typeof KEYS)[number], string>>
const MOST_KEPT = 1000
type Query = NonNullable<operations['list_runs']['parameters']['query']>

/** What is asked of the service for a filter. `since` counts hours back; `from` and `until` are moments of the viewer's clock. */
export function asked(filter: Filter, now = Date.now()): Query {
  const { state: one, since, from, until, error_kind: kind, ...rest } = filter
  const states = one === 'open' ? ['queued', 'running', 'waiting'] : one === 'unmended' ? ['failed'] : one && one !== 'held' ? [one] : undefined
  const moment = (text: string | undefined) => {
    const at = text ? new Date(text) : null
    return at && !Number.isNaN(at.getTime()) ? at.toISOString() : undefined
  }
  return {
    ...rest,
    error_kind: kind as Query['error_kind'],
    state: states as Query['state'],
    mended: one === 'unmended' ? false : undefined,
    held: one === 'held' || undefined,
    since: Number(since) > 0 ? new Date(now - Number(since) * 3600_000).toISOString() : moment(from),
    until: moment(until),
  }
}

/** Whether a run may belong to what a filter shows, as far as it can be told without asking. */
export function mayFit(run: Run, filter: Filter): boolean {
  if (run.kind === 'part') return false
  if (filter.workflow && run.workflow !== filter.workflow) return false
  if (filter.subject && run.subject !== filter.subject) return false
  const { state } = asked(filter)
  return !state || (state as string[]).includes(run.state)
}

/** Runs that fit a filter, kept as they are now: those that are shown change in place; new ones come by themselves, unless somebody is at
 * the list (`busy`) or has gone further down in it: then `newer` counts them. */
export function useRuns(filter: Ref<Filter>, busy: Ref<boolean>) {
  const client = useQueryClient()
  const key = ['runs', filter] as const
  const list = useList(key, (part) => data(api.GET('/api/v1/runs', { params: { query: { ...asked(filter.value), ...part } } })))
  const fresh = ref(new Set<string>())
  const newer = computed(() => fresh.value.size)
  const holds = () => busy.value || (list.query.data.value?.pages.length ?? 0) > 1
  let came = new Map<string, Run>()
  let frame = 0

  function show(): void {
    fresh.value = new Set()
    void client.resetQueries({ queryKey: ['runs', filter.value], exact: true })
  }
  const soon = useSoon(async () => {
    if (holds()) return
    fresh.value = new Set()
    await client.invalidateQueries({ queryKey: ['runs', filter.value], exact: true }, { cancelRefetch: false })
  }, 700)
  function place(): void {
    frame = 0
    const some = came
    came = new Map()
    const shown = new Set(list.items.value.map((run) => run.id))
    const unknown = [...some.values()].filter((run) => !shown.has(run.id) && mayFit(run, filter.value))
    if ([...some.keys()].some((id) => shown.has(id)))
      client.setQueryData<InfiniteData<Part<Run>>>(
        ['runs', filter.value],
        (old) => old && { ...old, pages: old.pages.map((page) => ({ ...page, items: page.items.map((run) => some.get(run.id) ?? run) })) },
      )
    if ([...some.values()].some((run) => shown.has(run.id) && !mayFit(run, filter.value))) soon() // it has left the list
    if (!unknown.length) return
    if (holds()) fresh.value = new Set([...fresh.value, ...unknown.map((run) => run.id)].slice(0, 1000))
    else soon()
  }
  useLive({
    run: (run) => {
      if (came.size >= MOST_KEPT) {
        came.clear() // nobody looks for long: the list is asked for when somebody does
        soon()
      }
      came.set(run.id, run)
      frame ||= requestAnimationFrame(place)
    },
    many: soon,
  })
  watch(busy, (now) => !now && fresh.value.size && soon())
  watch(filter, () => (fresh.value = new Set()))
  onScopeDispose(() => cancelAnimationFrame(frame))
  return { list, newer, show }
}
