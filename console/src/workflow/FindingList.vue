<script setup lang="ts">
import { computed } from 'vue'
import type { Finding } from '../api/client'

/** What was found in a document; each leads to its line. */
const props = defineProps<{ findings: Finding[] }>()
const emit = defineEmits<{ go: [finding: Finding] }>()
const mistakes = computed(() => props.findings.filter((one) => one.severity === 'error').length)
</script>

<template>
  <template v-if="findings.length">
    <h2>{{ mistakes ? `${mistakes} mistake${mistakes > 1 ? 's' : ''}` : 'To look at' }}</h2>
    <ul>
      <li v-for="(finding, index) in findings" :key="index">
        <button type="button" class="btn btn-link p-0 me-2" @click="emit('go', finding)">line {{ finding.line }}</button>
        <span :style="{ color: `var(--relay-${finding.severity === 'error' ? 'failed' : 'waiting'})` }"> {{ finding.message }}.</span>
        {{ finding.fix }}
      </li>
    </ul>
  </template>
</template>

<style scoped>
ul {
  padding-left: 0;
  list-style: none;
}
</style>
