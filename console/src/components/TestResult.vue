<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { shown } from '../lib/format'
import { moment } from '../lib/times'

const props = defineProps<{ test: Schemas['TestOut'] }>()
const asked = computed(() => (Array.isArray(props.test.messages) ? (props.test.messages as { role: string; content: unknown }[]) : []))
</script>

<template>
  <section class="test" role="status">
    <p>
      <strong v-if="test.tried === false" class="quiet">not tried</strong>
      <strong v-else :style="{ color: `var(--relay-${test.ok ? 'succeeded' : 'failed'})` }">{{ test.ok ? '✓ works' : '✗ does not work' }}</strong>
      <span class="quiet"> at {{ moment(test.at) }}</span
      ><br />{{ test.sentence }}
    </p>
    <p v-if="test.fix">What to do: {{ test.fix }}</p>
    <p v-for="(message, index) in asked" :key="index">Asked, as {{ message.role }}: “{{ shown(message.content) }}”</p>
    <p v-if="test.reply">It said: “{{ test.reply }}”</p>
    <p v-if="test.offered?.length">Models offered: {{ test.offered.join(', ') }}</p>
    <details v-if="test.exchange">
      <summary>Request and reply</summary>
      <div class="sides">
        <pre v-if="test.exchange.request">{{ shown(test.exchange.request) }}</pre>
        <pre v-if="test.exchange.response">{{ shown(test.exchange.response) }}</pre>
      </div>
    </details>
  </section>
</template>

<style scoped>
.test {
  border-left: 3px solid var(--relay-line);
  padding: 0.25rem 0 0.25rem 1rem;
  margin: 0.5rem 0;
}
p {
  margin-bottom: 0.4rem;
}
.sides {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(18rem, 1fr));
  gap: 1rem;
  margin-top: 0.5rem;
}
</style>
