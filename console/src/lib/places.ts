export interface Place {
  path: string
  title: string
  /** The key behind `g` that leads there. */
  key: string
  /** Other pages of its own. */
  also?: readonly string[]
}
/** The pages that can be gone to from anywhere, in groups: what is done, what is kept, how it stands. */
export const GROUPS: readonly (readonly Place[])[] = [
  [
    { path: '/workflows', title: 'Workflows', key: 'w' },
    { path: '/runs', title: 'Runs', key: 'r' },
    { path: '/tray', title: 'Tray', key: 't' },
    { path: '/conversations', title: 'Conversations', key: 'c' },
  ],
  [
    { path: '/tables', title: 'Tables', key: 'b' },
    { path: '/files', title: 'Files', key: 'f' },
    { path: '/credentials', title: 'Connections', key: 'k', also: ['/models', '/connectors', '/descriptions'] },
  ],
  [
    { path: '/overview', title: 'Overview', key: 'o' },
    { path: '/usage', title: 'Usage', key: 'u' },
    { path: '/schedules', title: 'Schedules', key: 's' },
    { path: '/access', title: 'Settings', key: 'a' },
  ],
]
export const PLACES: readonly Place[] = GROUPS.flat()
/** Those and the pages within them, as the search finds them. */
export const ALL: readonly Pick<Place, 'path' | 'title'>[] = [
  ...PLACES,
  { path: '/credentials', title: 'Credentials' },
  { path: '/models', title: 'Models' },
  { path: '/connectors', title: 'Connectors and actions' },
]

/** Whether a path lies on a page. */
export function isAt(place: Place, path: string): boolean {
  return [place.path, ...(place.also ?? [])].some((one) => path === one || path.startsWith(`${one}/`))
}
