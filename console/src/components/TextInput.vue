<script setup lang="ts">
import { nextTick, ref, watch } from 'vue'

/** A field whose text is told when it is left or Enter is pressed; what is being typed stays, whatever is drawn anew meanwhile. */
const props = defineProps<{ value: string }>()
const emit = defineEmits<{ change: [text: string] }>()
const text = ref(props.value)
watch(
  () => props.value,
  (now) => (text.value = now),
)
async function tell(): Promise<void> {
  emit('change', text.value)
  await nextTick()
  text.value = props.value
}
</script>

<template><input v-model="text" class="form-control form-control-sm" @change.stop="tell" /></template>
