<template>
  <div role="status" aria-label="Loading">
    <div v-for="n in 6" :key="n" class="skeleton" :style="{ width: `${95 - n * 9}%` }" />
  </div>
</template>
