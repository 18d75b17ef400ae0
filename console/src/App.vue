<script setup lang="ts">
import { defineAsyncComponent, onMounted, reactive, ref, watch } from 'vue'
import { RouterLink, RouterView, useRoute, useRouter } from 'vue-router'
import { expired, Problem } from './api/client'
import ProblemNote from './components/ProblemNote.vue'
import RestoreNote from './components/RestoreNote.vue'
import { away } from './lib/live'
import PageNav from './components/PageNav.vue'
import ToastArea from './components/ToastArea.vue'
import { askWho, signOut, who } from './lib/session'
import { otherTheme, theme } from './lib/theme'
import { useGlobalKeys } from './lib/keys'
import { question } from './lib/sure'
import { unloaded } from './router'

const SignInPage = defineAsyncComponent(() => import('./pages/SignInPage.vue'))
const SignInAgain = defineAsyncComponent(() => import('./components/SignInAgain.vue'))
const SearchDialog = defineAsyncComponent(() => import('./components/SearchDialog.vue'))
const SureDialog = defineAsyncComponent(() => import('./components/SureDialog.vue'))
const KeysDialog = defineAsyncComponent(() => import('./components/KeysDialog.vue'))

const route = useRoute()
const router = useRouter()
/** Dialogs come when they are first asked for. */
const open = reactive({ search: false, keys: false })
const came = reactive({ search: false, keys: false })
function show(what: 'search' | 'keys'): void {
  if (who.value) came[what] = open[what] = true
}
const asked = ref(false)
watch(question, (now) => now && (asked.value = true))
useGlobalKeys(show, (path) => who.value && void router.push(path))
const problem = ref<Problem | null>(null)
/** A page is loaded anew as a whole: its parts may be called otherwise after an update. */
const load = () => window.location.assign(unloaded.value)
const notLoaded = new Problem(0, 'This page could not be loaded', '', 'Is the service running? It is loaded when the service is heard of again.')
watch(away, (now) => !now && unloaded.value && load())
onMounted(async () => {
  try {
    await askWho()
  } catch (error) {
    problem.value = error as Problem
  }
})
</script>

<template>
  <RouterView v-if="route.meta.open" />
  <main v-else-if="problem"><ProblemNote :problem="problem" /></main>
  <SignInPage v-else-if="who === null" />
  <template v-else-if="who">
    <a href="#content" class="visually-hidden-focusable">Skip to the content</a>
    <header>
      <RouterLink to="/" class="name">Oak Relay</RouterLink>
      <PageNav />
      <div class="side">
        <button type="button" class="btn btn-link btn-sm" title="Press /" @click="show('search')">Search</button>
        <button type="button" class="btn btn-link btn-sm" @click="otherTheme">{{ theme === 'dark' ? 'Light' : 'Dark' }}</button>
        <button type="button" class="btn btn-link btn-sm" :title="`signed in as ${who}`" @click="signOut">Sign out</button>
      </div>
    </header>
    <SignInAgain v-if="expired" :name="who" />
    <p v-if="away" class="away" role="status">The service is not heard of. What is shown may be old; it is looked for again by itself.</p>
    <main id="content" tabindex="-1">
      <RestoreNote /><ProblemNote v-if="unloaded" :problem="notLoaded" :again="load" /><RouterView
        v-else
        :key="['/runs/', '/tables/', '/conversations/'].some((path) => route.path.startsWith(path)) ? route.path : undefined" />
    </main>
    <ToastArea />
    <SureDialog v-if="asked" />
    <SearchDialog v-if="came.search" v-model="open.search" />
    <KeysDialog v-if="came.keys" v-model="open.keys" />
  </template>
</template>

<style scoped>
header {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.25rem 1.25rem;
  padding: 0.5rem 1.25rem;
  border-bottom: 2px solid var(--bs-primary);
}
.name {
  font-weight: 650;
  color: inherit;
  text-decoration: none;
}
.away {
  margin: 0;
  padding: 0.3rem 1.25rem;
  border-bottom: 1px solid var(--relay-line);
  color: var(--relay-failed);
}
main:focus {
  outline: none;
}
.side {
  margin-left: auto;
}
@media (max-width: 700px) {
  header {
    padding: 0.5rem 0.75rem;
  }
  .side {
    margin-left: 0;
  }
}
</style>
