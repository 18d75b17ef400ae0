import '@fontsource-variable/inter'
import '@fontsource/jetbrains-mono/latin-400.css'
import './look.scss'

import { QueryCache, QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import { registryPlugin } from 'bootstrap-vue-next/plugins/registry'
import { createApp } from 'vue'
import { Problem } from './api/client'
import App from './App.vue'
import { who } from './lib/session'
import { router } from './router'

const queries = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      if (error instanceof Problem && error.status === 401) who.value = null
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 2000,
      retry: (count, error) => (!(error instanceof Problem) || error.status === 0 || error.status >= 500) && count < 20,
    },
  },
})

createApp(App).use(router).use(registryPlugin).use(VueQueryPlugin, { queryClient: queries }).mount('#app')
