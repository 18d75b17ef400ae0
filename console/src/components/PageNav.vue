<script setup lang="ts">
import { RouterLink, useRoute } from 'vue-router'
import { useCounts } from '../lib/counts'
import { GROUPS, isAt } from '../lib/places'

/** The pages, with what waits on them. */
const route = useRoute()
const { counts } = useCounts()
</script>

<template>
  <nav aria-label="Pages">
    <span v-for="(group, at) in GROUPS" :key="at" class="group">
      <RouterLink
        v-for="place in group"
        :key="place.path"
        :to="place.path"
        :class="{ here: isAt(place, route.path) }"
        :aria-current="isAt(place, route.path) ? 'page' : undefined"
        >{{ place.title
        }}<span v-if="counts[place.path]" class="count" :aria-label="`, ${counts[place.path]} waiting`">{{ counts[place.path] }}</span></RouterLink
      >
    </span>
  </nav>
</template>

<style scoped>
nav {
  display: flex;
  flex-wrap: wrap;
  gap: 0 0.95rem;
  font-size: 0.9rem;
}
nav a {
  color: inherit;
  text-decoration: none;
  padding: 0.15rem 0;
  border-bottom: 2px solid transparent;
}
nav a.here {
  border-bottom-color: var(--bs-primary);
  font-weight: 600;
}
.group {
  display: contents;
}
.group + .group::before {
  content: '';
  border-left: 1px solid var(--relay-line);
  margin: 0.35rem 0;
}
.count {
  background: var(--relay-waiting);
  color: var(--bs-body-bg);
  border-radius: 0.7rem;
  padding: 0 0.4rem;
  margin-left: 0.3rem;
  font-size: 0.8rem;
  font-weight: 600;
}
</style>
