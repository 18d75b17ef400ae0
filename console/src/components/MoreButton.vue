<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import type { List } from '../lib/lists'

defineProps<{ list: List; word?: string }>()
</script>

<template>
  <BButton
    v-if="list.query.hasNextPage.value"
    variant="outline-primary"
    class="mt-2"
    :disabled="list.query.isFetchingNextPage.value"
    @click="list.query.fetchNextPage()"
    >{{ word ?? 'Show more' }}</BButton
  >
</template>
