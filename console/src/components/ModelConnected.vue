<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { computed } from 'vue'
import { api, data, type Schemas } from '../api/client'
import { abilities } from '../lib/abilities'
import { every } from '../lib/lists'
import { usePlay } from '../lib/play'
import ProblemNote from './ProblemNote.vue'

/** A model that was just connected: what it said, what it can do, and an example to play with it. */
defineProps<{ done: Schemas['ConnectedOut'] }>()
const emit = defineEmits<{ leave: [] }>()
const examples = useQuery({ queryKey: ['examples'], queryFn: () => every((query) => data(api.GET('/api/v1/examples', { params: { query } }))) })
const example = computed(() => examples.data.value?.find((one) => one.needs_model))
const { busy, problem, play } = usePlay()
</script>

<template>
  <p>
    <strong>{{ done.alias.name }}</strong> is connected. It said: “{{ done.test.reply }}”
  </p>
  <ul>
    <li v-for="line in abilities(done.alias.config)" :key="line">{{ line }}</li>
  </ul>
  <p v-if="done.credential" class="quiet">Its key is kept as the credential {{ done.credential }}, and sent to this server alone.</p>
  <ProblemNote v-if="problem" :problem="problem" />
  <div class="acts">
    <BButton variant="primary" @click="emit('leave')">Done</BButton>
    <BButton v-if="example" variant="outline-primary" :disabled="busy !== ''" @click="play(example.name)">Play “{{ example.title }}” with it</BButton>
  </div>
</template>

<style scoped>
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  margin-top: 1.25rem;
}
</style>
