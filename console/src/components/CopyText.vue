<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { ref } from 'vue'

/** A text to be put somewhere else. */
const props = defineProps<{ text: string }>()
const copied = ref(false)
async function copy(): Promise<void> {
  await navigator.clipboard.writeText(props.text)
  copied.value = true
}
</script>

<template>
  <span class="copy">
    <code>{{ text }}</code> <BButton size="sm" variant="outline-primary" @click="copy">{{ copied ? 'Copied' : 'Copy' }}</BButton>
  </span>
</template>

<style scoped>
.copy {
  display: inline-flex;
  flex-wrap: wrap;
  gap: 0.2rem 0.5rem;
  align-items: center;
}
code {
  overflow-wrap: anywhere;
}
</style>
