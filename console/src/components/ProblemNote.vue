<script setup lang="ts">
import { Problem } from '../api/client'

/** What went wrong, and what to do; `again` is done by a button where trying again may help. */
defineProps<{ problem: Error; again?: () => unknown }>()
</script>

<template>
  <div class="alert alert-danger" role="alert">
    <strong>{{ problem.message }}</strong>
    <template v-if="problem instanceof Problem">
      <div v-if="problem.detail && problem.detail !== problem.title">{{ problem.detail }}</div>
      <div v-if="problem.fix">What to do: {{ problem.fix }}</div>
    </template>
    <button v-if="again" type="button" class="btn btn-sm btn-outline-danger mt-1" @click="again">Try again</button>
  </div>
</template>
