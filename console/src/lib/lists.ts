import { keepPreviousData, useInfiniteQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

/** A part of a list, as the service tells it; `next` is null at its end. */
export interface Part<T> {
  items: T[]
  next?: string | null
}
export interface Asked {
  limit: number
  after?: string
}
const MOST = 1000

/** A whole list, over all its parts: for what is chosen from, or is never long. */
export async function every<T>(part: (asked: Asked) => Promise<Part<T>>): Promise<T[]> {
  const all: T[] = []
  let after: string | undefined
  do {
    const found = await part({ limit: MOST, after })
    all.push(...found.items)
    after = found.next ?? undefined
  } while (after)
  return all
}

/** A list that is shown part by part. */
export function useList<T>(
  key: readonly unknown[],
  part: (asked: Asked) => Promise<Part<T>>,
  more: { refetchInterval?: number; limit?: number } = {},
) {
  const query = useInfiniteQuery({
    queryKey: key,
    initialPageParam: undefined as string | undefined,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => part({ limit: more.limit ?? 50, after: pageParam }),
    getNextPageParam: (last: Part<T>) => last.next ?? undefined,
    refetchInterval: more.refetchInterval,
  })
  const items = computed<T[]>(() => query.data.value?.pages.flatMap((p) => p.items) ?? [])
  return { query, items }
}
export type List = ReturnType<typeof useList<unknown>>
