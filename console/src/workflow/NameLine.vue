<script setup lang="ts">
import { onMounted, ref, useTemplateRef } from 'vue'

/** Another name for a line. */
const props = defineProps<{ name: string }>()
const emit = defineEmits<{ rename: [name: string]; leave: [] }>()
const name = ref(props.name)
const field = useTemplateRef<HTMLInputElement>('field')
onMounted(() => field.value?.select())
</script>

<template>
  <form class="ms-5" @submit.prevent="emit('rename', name.trim())">
    <label>
      Name
      <input ref="field" v-model="name" class="naming form-control form-control-sm d-inline-block w-auto" @keydown.escape.prevent="emit('leave')" />
    </label>
  </form>
</template>
