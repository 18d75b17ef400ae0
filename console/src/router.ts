import { ref } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/workflows' },
    { path: '/workflows', component: () => import('./pages/WorkflowsPage.vue'), meta: { title: 'Workflows' } },
    { path: '/workflows/:name', component: () => import('./pages/WorkflowPage.vue'), meta: { title: 'Workflow' }, props: true },
    { path: '/runs', component: () => import('./pages/RunsPage.vue'), meta: { title: 'Runs' } },
    { path: '/runs/:id', component: () => import('./pages/RunPage.vue'), meta: { title: 'Run' }, props: true },
    { path: '/overview', component: () => import('./pages/OverviewPage.vue'), meta: { title: 'Overview' } },
    { path: '/compare', component: () => import('./pages/ComparePage.vue'), meta: { title: 'Compare' } },
    { path: '/tables', component: () => import('./pages/TablesPage.vue'), meta: { title: 'Tables' } },
    { path: '/tables/:name', component: () => import('./pages/TablePage.vue'), meta: { title: 'Table' }, props: true },
    { path: '/conversations', component: () => import('./pages/ConversationsPage.vue'), meta: { title: 'Conversations' } },
    { path: '/conversations/:name', component: () => import('./pages/ConversationPage.vue'), meta: { title: 'Conversation' }, props: true },
    { path: '/tray', component: () => import('./pages/TrayPage.vue'), meta: { title: 'Tray' } },
    { path: '/answer/:link', component: () => import('./pages/AnswerPage.vue'), meta: { title: 'A question', open: true }, props: true },
    { path: '/schedules', component: () => import('./pages/SchedulesPage.vue'), meta: { title: 'Schedules' } },
    { path: '/files', component: () => import('./pages/FilesPage.vue'), meta: { title: 'Files' } },
    { path: '/credentials', component: () => import('./pages/CredentialsPage.vue'), meta: { title: 'Credentials' } },
    { path: '/connect/back', component: () => import('./pages/ConnectBackPage.vue'), meta: { title: 'Connecting' } },
    { path: '/models', component: () => import('./pages/ModelsPage.vue'), meta: { title: 'Models' } },
    { path: '/connectors', component: () => import('./pages/ConnectorsPage.vue'), meta: { title: 'Connectors' } },
    { path: '/descriptions', component: () => import('./pages/DescriptionPage.vue'), meta: { title: 'Actions from a description' } },
    { path: '/connectors/:name', component: () => import('./pages/ConnectorPage.vue'), meta: { title: 'Connector' }, props: true },
    { path: '/usage', component: () => import('./pages/UsagePage.vue'), meta: { title: 'Usage' } },
    { path: '/access', component: () => import('./pages/AccessPage.vue'), meta: { title: 'Settings' } },
    { path: '/:rest(.*)*', component: () => import('./pages/NowherePage.vue'), meta: { title: 'Not here' } },
  ],
})

/** A page that could not be loaded: where it would have been. */
export const unloaded = ref('')
router.onError((_, to) => (unloaded.value = to.fullPath))

router.afterEach((to, from) => {
  unloaded.value = ''
  document.title = `${String(to.params.name ?? to.meta.title)} · Oak Relay`
  // Who goes on by keys or listens begins at the content of the page that was gone to, unless that takes the focus itself.
  if (from.name === undefined && from.matched.length === 0) return
  if (to.path !== from.path)
    window.setTimeout(() => (document.activeElement === document.body || isLink()) && document.getElementById('content')?.focus(), 50)
})
const isLink = () => !!document.activeElement?.closest('nav[aria-label="Pages"], tr')
