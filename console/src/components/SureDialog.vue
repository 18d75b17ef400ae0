<script setup lang="ts">
import { computed } from 'vue'
import { question } from '../lib/sure'
import AskSure from './AskSure.vue'

/** Asks whether somebody is sure, for all pages. */
const shown = computed({ get: () => question.value !== null, set: (on) => on || question.value?.answer(false) })
</script>

<template>
  <AskSure v-model="shown" :title="question?.title ?? ''" :ok="question?.ok ?? ''" @sure="question?.answer(true)">{{ question?.text }}</AskSure>
</template>
