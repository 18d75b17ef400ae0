<script setup lang="ts">
import { BFormInput } from 'bootstrap-vue-next'
import { computed, onMounted, ref, useTemplateRef } from 'vue'
import { api, data } from '../api/client'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import { money } from '../lib/format'
import { useList } from '../lib/lists'
import type { Loop } from './timeline'

/** The items of a list or the rounds of a loop: found by words or a number, the failed ones alone, and one of them chosen. */
const props = defineProps<{ run: string; loop: Loop; live: boolean }>()
const emit = defineEmits<{ choose: [path: string]; close: [] }>()
const typed = ref('')
const failed = ref(props.loop.failed > 0)
const item = computed(() => (props.loop.kind === 'repeat' ? 'round' : 'item'))
/** A number is the item it names, as they are counted on the page. */
const number = computed(() => (/^\s*\d{1,9}\s*$/.test(typed.value) ? Number(typed.value) : null))
const text = computed(() => (number.value === null ? typed.value.trim() : ''))
const asked = computed(() => ({ run: props.run, of: props.loop.path, text: text.value, failed: failed.value, from: number.value }))
const list = useList(
  ['items', asked],
  ({ limit, after }) => {
    const from = number.value === null ? undefined : String(number.value - 2)
    return data(
      api.GET('/api/v1/runs/{run_id}/items', {
        params: {
          path: { run_id: props.run },
          query: {
            of: props.loop.path,
            text: text.value || undefined,
            state: failed.value && number.value === null ? 'failed' : undefined,
            limit,
            after: after ?? from,
          },
        },
      }),
    )
  },
  { refetchInterval: props.live ? 3000 : undefined, limit: 30 },
)
const search = useTemplateRef<{ focus: () => void }>('search')
onMounted(() => search.value?.focus())
/** Enter goes to the item whose number is typed, or the first that is found. */
async function first(): Promise<void> {
  const { all, path } = props.loop
  if (number.value !== null) {
    if (number.value >= 1 && (all === null || number.value <= all)) emit('choose', `${path}[${number.value - 1}]`)
    return
  }
  await list.query.refetch({ cancelRefetch: false })
  const [one] = list.items.value
  if (one) emit('choose', one.path)
}
</script>

<template>
  <section class="picker" :aria-label="`The ${item}s of ${loop.path}`" @keydown.esc.stop="emit('close')">
    <div class="asked">
      <BFormInput
        ref="search"
        v-model="typed"
        size="sm"
        type="search"
        maxlength="200"
        :placeholder="loop.kind === 'repeat' ? 'number of a round' : 'words, or a number'"
        :aria-label="`Find ${item}s`"
        @keydown.enter.prevent="first" />
      <label><input v-model="failed" type="checkbox" /> failed only</label>
      <span class="quiet"
        >{{ loop.ended }}<template v-if="loop.all !== null"> of {{ loop.all }}</template> ended<template v-if="loop.failed"
          >, {{ loop.failed }} failed</template
        ></span
      >
      <button type="button" class="btn btn-link btn-sm" @click="emit('close')">Close</button>
    </div>
    <ProblemNote v-if="list.query.error.value" :problem="list.query.error.value" />
    <LoadingLines v-else-if="list.query.isPending.value" />
    <p v-else-if="!list.items.value.length" class="quiet">
      {{ typed || failed ? `No such ${item}.` : `No ${item} has begun.` }}
    </p>
    <ul v-else>
      <li v-for="one in list.items.value" :key="one.index">
        <button type="button" :aria-current="one.index === loop.chosen || undefined" @click="emit('choose', one.path)">
          <span class="num">{{ one.index + 1 }}</span> <StateMark :state="one.state" /> <span class="label">{{ one.label }}</span>
          <span v-if="one.money || one.unpriced" class="quiet">{{ money(one.money, one.unpriced) }}</span>
        </button>
      </li>
    </ul>
    <MoreButton :list="list" />
  </section>
</template>

<style scoped>
.picker {
  border: 1px solid var(--relay-line);
  border-top: 0;
  padding: 0.5rem 0.75rem;
  background: var(--bs-tertiary-bg);
}
.asked {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.25rem 1rem;
  margin-bottom: 0.4rem;
}
.asked .form-control {
  max-width: 16rem;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
  max-height: 16rem;
  overflow: auto;
}
li button {
  display: flex;
  gap: 0.75rem;
  width: 100%;
  border: 0;
  background: none;
  color: inherit;
  text-align: left;
  padding: 0.1rem 0.3rem;
}
li button:hover,
li button[aria-current] {
  background: var(--bs-body-bg);
}
.num {
  flex: 0 0 3rem;
}
.label {
  flex: 1 1 0;
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
