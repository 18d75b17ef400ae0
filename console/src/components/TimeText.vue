<script setup lang="ts">
import { exact, passing } from '../lib/times'

/** A moment in passing; pointed at, the whole of it. */
defineProps<{ at: string | null | undefined }>()
</script>

<template>
  <time v-if="at" :datetime="at" :title="exact(at)">{{ passing(at) }}</time>
  <span v-else>–</span>
</template>

<style scoped>
time {
  white-space: nowrap;
}
</style>
