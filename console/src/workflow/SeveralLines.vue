<script setup lang="ts">
/** What can be done with several lines that are chosen together. */
defineProps<{ count: number }>()
const emit = defineEmits<{ extract: []; loop: []; remove: [] }>()
</script>

<template>
  <p v-if="count" class="several" role="status">
    {{ count }} lines
    <button type="button" class="btn btn-link btn-sm p-0" @click="emit('extract')">Make them a workflow</button>
    <button type="button" class="btn btn-link btn-sm p-0" @click="emit('loop')">Do them for each of a list</button>
    <button type="button" class="btn btn-link btn-sm p-0" @click="emit('remove')">Take them away</button>
  </p>
</template>

<style scoped>
.several {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 0.8rem;
  align-items: baseline;
  margin: 0 0 0.3rem;
}
</style>
