<script setup lang="ts">
import { RouterLink, useRoute } from 'vue-router'

/** What workflows connect to, on three pages. */
const route = useRoute()
const PAGES = [
  ['/credentials', 'Credentials'],
  ['/models', 'Models and tool servers'],
  ['/connectors', 'Connectors and actions'],
] as const
const isHere = (path: string) =>
  route.path === path || route.path.startsWith(`${path}/`) || (path === '/connectors' && route.path === '/descriptions')
</script>

<template>
  <nav aria-label="Connections">
    <RouterLink
      v-for="[path, title] in PAGES"
      :key="path"
      :to="path"
      :class="{ here: isHere(path) }"
      :aria-current="route.path === path ? 'page' : undefined"
      >{{ title }}</RouterLink
    >
  </nav>
</template>

<style scoped>
nav {
  display: flex;
  flex-wrap: wrap;
  gap: 0 1.2rem;
  margin-bottom: 0.75rem;
}
a {
  color: inherit;
  text-decoration: none;
  border-bottom: 2px solid transparent;
}
a:hover {
  border-bottom-color: var(--relay-line);
}
.here {
  border-bottom-color: var(--bs-primary);
  font-weight: 550;
}
</style>
