import '@fontsource-variable/inter'
import '@fontsource/jetbrains-mono/latin-400.css'
import 'bootstrap-vue-next/dist/bootstrap-vue-next.css'
import './look.scss'

import { QueryCache, QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import { createBootstrap } from 'bootstrap-vue-next'
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

createApp(App).use(router).use(createBootstrap()).use(VueQueryPlugin, { queryClient: queries }).mount('#app')
