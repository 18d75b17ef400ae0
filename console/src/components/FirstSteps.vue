<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { RouterLink } from 'vue-router'
import { api, data } from '../api/client'
import ProblemNote from './ProblemNote.vue'
import { every } from '../lib/lists'
import { usePlay } from '../lib/play'

const models = useQuery({ queryKey: ['models'], queryFn: () => every((query) => data(api.GET('/api/v1/models', { params: { query } }))) })
const examples = useQuery({ queryKey: ['examples'], queryFn: () => every((query) => data(api.GET('/api/v1/examples', { params: { query } }))) })
const { busy, problem, play } = usePlay()
</script>

<template>
  <p>Nothing is here yet. Three things to do, in any order:</p>
  <section>
    <h2>Connect a model</h2>
    <p v-if="models.data.value?.length">
      Done: {{ models.data.value.map((one) => one.name).join(', ') }}. <RouterLink to="/models">Models</RouterLink>
    </p>
    <p v-else>The address of a model server, and its key if it has one. <RouterLink to="/models?connect=1">Connect a model</RouterLink></p>
  </section>
  <section>
    <h2>Play an example</h2>
    <ProblemNote v-if="problem" :problem="problem" />
    <ul>
      <li v-for="one in examples.data.value" :key="one.name">
        <BButton size="sm" variant="outline-primary" :disabled="busy !== '' || one.needs_model" @click="play(one.name)">{{
          busy === one.name ? 'Starting…' : 'Play'
        }}</BButton>
        <div>
          <strong>{{ one.title }}</strong><br />{{ one.note }}<span v-if="one.needs_model" class="quiet"> Needs a model first.</span>
        </div>
      </li>
    </ul>
  </section>
  <section>
    <h2>Write one of your own</h2>
    <p>
      A small sound document stands there to begin with. <RouterLink to="/workflows/new">Write a workflow</RouterLink>, or save a file:
      <code>oak-relay save FILE --on</code>
    </p>
  </section>
</template>

<style scoped>
section {
  max-width: 46rem;
  margin-top: 1.5rem;
}
ul {
  list-style: none;
  padding: 0;
}
li {
  display: flex;
  gap: 1rem;
  align-items: flex-start;
  margin-bottom: 0.9rem;
}
li > button {
  flex: none;
  min-width: 4.5rem;
}
</style>
