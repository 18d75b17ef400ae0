import '@fontsource-variable/inter'
import '@fontsource/jetbrains-mono/latin-400.css'
import './look.scss'

import { QueryCache, QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import { registryPlugin } from 'bootstrap-vue-next/plugins/registry'
import { createApp, watch } from 'vue'
import { Problem } from './api/client'
import App from './App.vue'
import { away } from './lib/live'
import { over } from './lib/session'
import { router } from './router'

const queries = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      if (error instanceof Problem && error.status === 401) over()
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 2000,
      // What failed is said soon; when the service is heard of again, it is asked for anew.
      retry: (count, error) => (!(error instanceof Problem) || error.status === 0 || error.status >= 500) && count < 1,
      retryDelay: 700,
    },
  },
})

watch(away, (now) => now || void queries.refetchQueries({ type: 'active' }))

createApp(App).use(router).use(registryPlugin).use(VueQueryPlugin, { queryClient: queries }).mount('#app')
