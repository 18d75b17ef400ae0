import { onScopeDispose } from 'vue'

/** Listen to a stream of server-sent events while the component lives; the browser reconnects by itself. */
export function useStream(address: string, heard: Record<string, (data: unknown) => void>): () => void {
  const source = new EventSource(address)
  for (const [name, take] of Object.entries(heard)) {
    source.addEventListener(name, (event) => take(JSON.parse((event as MessageEvent<string>).data)))
  }
  const stop = () => source.close()
  onScopeDispose(stop)
  return stop
}
