<script setup lang="ts">
import { computed, ref } from 'vue'

/** A value as a tree: mappings and lists fold, long texts are cut, and each part says which expression leads to it. */
const props = withDefaults(defineProps<{ value: unknown; name?: string; expression?: string; depth?: number; words?: string }>(), {
  name: '',
  expression: '',
  depth: 0,
  words: '',
})
const emit = defineEmits<{ copy: [expression: string] }>()
const STEP = 50
const LONG = 600
const shown = ref(STEP)
const whole = ref(false)
const kind = computed(() => (Array.isArray(props.value) ? 'list' : props.value !== null && typeof props.value === 'object' ? 'mapping' : 'plain'))
const parts = computed<[string, unknown][]>(() => {
  if (kind.value === 'list') return (props.value as unknown[]).map((one, at) => [String(at), one])
  return kind.value === 'mapping' ? Object.entries(props.value as object) : []
})
const has = (key: string, one: unknown) => !props.words || `${key} ${JSON.stringify(one)}`.toLowerCase().includes(props.words.toLowerCase())
const found = computed(() => parts.value.filter(([key, one]) => has(key, one)))
const text = computed(() => (typeof props.value === 'string' ? props.value : JSON.stringify(props.value)))
const cut = computed(() => typeof props.value === 'string' && props.value.length > LONG && !whole.value)
const leads = (key: string) => {
  if (!props.expression) return ''
  if (kind.value === 'list') return `${props.expression}[${key}]`
  return /^[A-Za-z_]\w*$/.test(key) ? `${props.expression}.${key}` : `${props.expression}[${JSON.stringify(key)}]`
}
const many = computed(() => {
  const [open, close] = kind.value === 'list' ? '[]' : '{}'
  return parts.value.length ? `${open}${parts.value.length}${close}` : `${open}${close}`
})
</script>

<template>
  <div class="part">
    <component :is="depth ? 'details' : 'div'" v-if="kind !== 'plain' && parts.length" :open="depth ? depth < 3 || !!words : undefined">
      <summary v-if="depth">
        <span v-if="name" class="name">{{ name }}</span> <span class="quiet">{{ many }}</span>
      </summary>
      <ul :class="{ inner: depth }">
        <li v-for="[key, one] in found.slice(0, shown)" :key="key">
          <ValueTree :value="one" :name="key" :expression="leads(key)" :depth="depth + 1" :words="words" @copy="emit('copy', $event)" />
        </li>
      </ul>
      <button v-if="found.length > shown" type="button" class="btn btn-link btn-sm" @click="shown += STEP * 4">
        {{ (found.length - shown).toLocaleString() }} more
      </button>
    </component>
    <div v-else class="plain">
      <span v-if="name" class="name">{{ name }}</span>
      <span v-if="kind !== 'plain'" class="quiet">{{ many }}</span>
      <span v-else class="text" :class="typeof value">{{ cut ? text.slice(0, LONG) : text }}<template v-if="cut">…</template></span>
      <button v-if="cut" type="button" class="btn btn-link btn-sm" @click="whole = true">all {{ text.length.toLocaleString() }} letters</button>
    </div>
    <button
      v-if="expression && name"
      type="button"
      class="leads"
      :title="`copy the expression ${expression}`"
      :aria-label="`Copy the expression ${expression}`"
      @click="emit('copy', expression)">
      ⧉
    </button>
  </div>
</template>

<style scoped>
.part {
  position: relative;
}
summary,
.plain {
  font-family: var(--bs-font-monospace);
  font-size: 0.84rem;
  padding-right: 1.4rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
.inner {
  padding-left: 0.9rem;
  border-left: 1px solid var(--relay-line);
}
.name {
  color: var(--relay-quiet);
  margin-right: 0.5rem;
}
.text {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.number,
.boolean {
  color: var(--relay-running);
}
.leads {
  position: absolute;
  right: 0;
  top: 0;
  border: 0;
  background: none;
  color: var(--relay-quiet);
  padding: 0 0.3rem;
  opacity: 0;
}
.part:hover > .leads,
.leads:focus-visible {
  opacity: 1;
}
.plain .btn {
  padding: 0 0.3rem;
}
</style>
