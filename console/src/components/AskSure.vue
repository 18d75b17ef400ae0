<script setup lang="ts">
import { BModal } from 'bootstrap-vue-next'

/** Asks before something that cannot be undone. */
defineProps<{ title: string; ok: string }>()
const shown = defineModel<boolean>({ required: true })
const emit = defineEmits<{ sure: [] }>()
</script>

<template>
  <BModal
    v-model="shown"
    :title="title"
    title-tag="h2"
    title-class="fs-5"
    :ok-title="ok"
    ok-variant="danger"
    cancel-title="Not now"
    @ok="emit('sure')">
    <slot />
  </BModal>
</template>
