<script setup lang="ts">
import { BModal } from 'bootstrap-vue-next'
import { KEYS } from '../lib/keys'
import { PLACES } from '../lib/places'

/** Says what keys do. */
const open = defineModel<boolean>({ required: true })
</script>

<template>
  <BModal v-model="open" title="Keys" title-tag="h2" title-class="fs-5" no-footer>
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
