/** The pages that can be gone to from anywhere. */
export const PLACES: readonly (readonly [path: string, title: string])[] = [
  ['/workflows', 'Workflows'],
  ['/runs', 'Runs'],
  ['/tray', 'Tray'],
  ['/schedules', 'Schedules'],
  ['/files', 'Files'],
  ['/credentials', 'Credentials'],
  ['/models', 'Models'],
  ['/usage', 'Usage'],
]
