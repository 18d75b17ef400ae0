<script setup lang="ts">
import { BAlert } from 'bootstrap-vue-next'
import { Problem } from '../api/client'

defineProps<{ problem: Error }>()
</script>

<template>
  <BAlert :model-value="true" variant="danger" role="alert">
    <strong>{{ problem.message }}</strong>
    <template v-if="problem instanceof Problem">
      <div v-if="problem.detail && problem.detail !== problem.title">{{ problem.detail }}</div>
      <div v-if="problem.fix">What to do: {{ problem.fix }}</div>
    </template>
  </BAlert>
</template>
