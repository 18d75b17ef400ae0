<script setup lang="ts">
import { ref } from 'vue'
import { exact, passing } from '../lib/times'

/** A moment in passing; pointed at, the whole of it. */
defineProps<{ at: string | null | undefined }>()
const pointed = ref(false)
</script>

<template>
  <time v-if="at" :datetime="at" :title="pointed ? exact(at) : undefined" @mouseenter="pointed = true">{{ passing(at) }}</time>
  <span v-else>–</span>
</template>

<style scoped>
time {
  white-space: nowrap;
}
</style>
