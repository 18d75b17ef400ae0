<script setup lang="ts">
import { BModal } from 'bootstrap-vue-next'
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { isPlain, KEYS } from '../lib/keys'
import { PLACES } from '../lib/places'

/** Says what keys do when `?` is pressed, and goes to pages by `g` and a letter. */
const router = useRouter()
const open = ref(false)
const WITHIN = 1500
let going = 0
function pressed(event: KeyboardEvent): void {
  if (!isPlain(event)) return
  if (event.key === '?') open.value = true
  else if (event.key === 'g') {
    going = performance.now()
    return
  } else if (performance.now() - going < WITHIN) {
    const place = PLACES.find((one) => one.key === event.key)
    if (place) void router.push(place.path)
  } else return
  going = -WITHIN
  event.preventDefault()
}
onMounted(() => {
  going = -WITHIN
  window.addEventListener('keydown', pressed)
})
onBeforeUnmount(() => window.removeEventListener('keydown', pressed))
</script>

<template>
  <BModal v-model="open" title="Keys" title-tag="h2" title-class="fs-5" no-footer scrollable>
    <template v-for="[where, keys] in KEYS" :key="where">
      <h3>{{ where }}</h3>
      <dl>
        <template v-for="[key, does] in keys" :key="key">
          <dt>
            <kbd>{{ key }}</kbd>
          </dt>
          <dd>{{ does }}</dd>
        </template>
      </dl>
    </template>
    <h3>Pages, behind g</h3>
    <dl>
      <template v-for="place in PLACES" :key="place.key">
        <dt>
          <kbd>{{ place.key }}</kbd>
        </dt>
        <dd>{{ place.title }}</dd>
      </template>
    </dl>
  </BModal>
</template>

<style scoped>
h3 {
  font-size: 1rem;
  margin: 0.8rem 0 0.3rem;
}
dl {
  display: grid;
  grid-template-columns: 9rem 1fr;
  gap: 0.15rem 1rem;
  margin: 0;
}
dd {
  margin: 0;
}
kbd {
  background: var(--bs-tertiary-bg);
  color: var(--bs-body-color);
}
</style>
