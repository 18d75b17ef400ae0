import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, data } from '../api/client'
import { useLive, useSoon } from './live'
import { who } from './session'

/** What waits for somebody, by the page where it is seen to. */
export function useCounts() {
  const query = useQuery({
    queryKey: ['counts'],
    enabled: () => !!who.value,
    queryFn: () => data(api.GET('/api/v1/counts')),
    refetchInterval: 30_000,
  })
  const soon = useSoon(() => who.value && query.refetch({ cancelRefetch: false }), 2000)
  useLive({ run: soon, many: soon })
  const counts = computed<Record<string, number>>(() => ({
    '/tray': (query.data.value?.questions ?? 0) + (query.data.value?.connections ?? 0),
    '/credentials': query.data.value?.connections ?? 0,
  }))
  return { counts }
}
