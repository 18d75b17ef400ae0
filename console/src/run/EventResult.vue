<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'
import type { Schemas } from '../api/client'
import StateMark from '../components/StateMark.vue'
import ValueView from '../components/ValueView.vue'
import { moment } from '../lib/times'

/** What a run gave, what it began with, and which runs belong to it; folded (`brief`) while a step is looked at. */
const props = defineProps<{ detail: Schemas['RunDetail']; brief: boolean }>()
const place = (how: string | null | undefined) => ({ start: 'from the start', failure: 'from where it failed' })[how ?? ''] ?? 'from a step'
const related = computed(() => [
  ...props.detail.children.map((run) => ({ run, word: 'started' })),
  ...props.detail.again.map((run) => ({ run, word: `again, ${place(run.origin_how)}` })),
])
const gave = computed(() => props.detail.result !== null && props.detail.result !== undefined)
</script>

<template>
  <section aria-label="Event and result">
    <template v-if="related.length">
      <h2>Other runs</h2>
      <p v-for="one in related" :key="one.run.id" class="related">
        <StateMark :state="one.run.state" /> <RouterLink :to="`/runs/${one.run.id}`">{{ one.run.workflow }}</RouterLink>
        <span class="quiet">{{ one.word }}, {{ moment(one.run.created_at) }}</span>
      </p>
    </template>
    <details v-if="gave" :open="!brief">
      <summary>
        <h2>Result</h2>
      </summary>
      <ValueView :value="detail.result" name="result" />
    </details>
    <details :open="!brief">
      <summary>
        <h2>Event</h2>
      </summary>
      <p class="quiet">
        {{ detail.event.type }} from <span class="mono">{{ detail.event.source }}</span>, id <span class="mono">{{ detail.event.key }}</span>
      </p>
      <ValueView :value="detail.event.data" name="event" expression="input" />
      <p v-for="one in detail.event.large" :key="one.id" class="quiet">
        Long parts are cut here. <a :href="`/api/v1/artifacts/${one.id}`" target="_blank">The whole</a>, {{ Math.round(one.bytes / 1024) }} KB
      </p>
    </details>
  </section>
</template>

<style scoped>
h2 {
  display: inline;
}
details {
  margin-top: 1rem;
}
.related {
  margin: 0;
}
.quiet {
  overflow-wrap: anywhere;
  margin: 0.2rem 0;
}
</style>
