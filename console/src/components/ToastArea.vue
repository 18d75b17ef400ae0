<script setup lang="ts">
import { dismiss, toasts } from '../lib/toasts'
</script>

<template>
  <div class="toasts" role="status" aria-live="polite" aria-label="What was just done">
    <div v-for="one in toasts" :key="one.id" class="told" :class="{ failed: one.failed }">
      <span>{{ one.text }}</span>
      <button v-if="one.undo" type="button" class="btn btn-sm btn-outline-primary" @click="one.undo">Undo</button>
      <button v-else type="button" class="btn btn-sm btn-link" aria-label="Dismiss" @click="dismiss(one.id)">×</button>
    </div>
  </div>
</template>

<style scoped>
.toasts {
  position: fixed;
  right: 1rem;
  bottom: 1rem;
  z-index: 1080;
  display: grid;
  gap: 0.5rem;
  max-width: min(28rem, calc(100vw - 2rem));
}
.told {
  display: flex;
  gap: 1rem;
  align-items: center;
  justify-content: space-between;
  background: var(--bs-body-bg);
  border: 1px solid var(--relay-line);
  border-left: 3px solid var(--relay-succeeded);
  padding: 0.5rem 0.9rem;
  box-shadow: 0 2px 8px rgb(0 0 0 / 18%);
  overflow-wrap: anywhere;
}
.failed {
  border-left-color: var(--relay-failed);
}
</style>
