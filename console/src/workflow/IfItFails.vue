<script setup lang="ts">
import { computed } from 'vue'
import { pathOf } from '../edit/source'
import { removeKey, setValue } from '../edit/values'
import type { Draft } from './draft'
import FieldRow from './FieldRow.vue'
import type { FieldShape, Widget } from './fields'
import type { Row } from './rows'

/** How often a line is tried, how long it may take, and what is done when it fails. */
const props = defineProps<{ draft: Draft; row: Row }>()
const field = (name: string, title: string, about: string, widget: Widget, choices: string[] = []): FieldShape => ({
  name,
  title,
  about,
  required: false,
  widget,
  schema: {},
  choices,
})
const fields = computed(() => {
  const tries = props.row.kind === 'do' || props.row.kind === 'run'
  return [
    ...(tries
      ? [
          {
            at: ['retry', 'tries'],
            field: field('tries', 'Tries', 'How often it is tried; three times when left out, where that does no harm.', 'number'),
          },
          { at: ['retry', 'wait'], field: field('wait', 'Wait between tries', 'Such as 1s or 5m; it grows from try to try.', 'text') },
        ]
      : []),
    { at: ['timeout'], field: field('timeout', 'Time-out', 'Such as 30s: it fails when it takes longer.', 'text') },
    ...(listed.value
      ? []
      : [
          {
            at: ['on_error'],
            field: field('on_error', 'When it fails in the end', 'fail ends the run; go_on lets the next lines go on.', 'choice', ['fail', 'go_on']),
          },
        ]),
    ...(props.row.kind === 'do'
      ? [
          {
            at: ['unknown'],
            field: field('unknown', 'When nobody knows whether it happened', 'ask a person, repeat it, or fail.', 'choice', [
              'ask',
              'repeat',
              'fail',
            ]),
          },
        ]
      : []),
    { at: ['when'], field: field('when', 'Only when', 'An expression; it is skipped unless that is true.', 'any') },
    { at: ['once'], field: field('once', 'Only once ever for', 'A key such as ${ input.booking }.', 'any') },
  ]
})
const value = (at: string[]) => props.draft.source.value?.value([...pathOf(props.row.path), ...at])
const listed = computed(() => Array.isArray(value(['on_error'])))
const set = (at: string[], given: unknown) => props.draft.edit((source) => setValue(source, [...pathOf(props.row.path), ...at], given))
const clear = (at: string[]) => props.draft.edit((source) => removeKey(source, [...pathOf(props.row.path), ...at]))
const instead = () => set(['on_error'], [{ step: `${props.row.step}_failed`, todo: 'what is done when it fails' }])
</script>

<template>
  <FieldRow
    v-for="one in fields"
    :key="`${row.path} ${one.at.join('.')}`"
    :field="one.field"
    :value="value(one.at)"
    :parts="[]"
    :known="{}"
    @change="(given) => set(one.at, given)"
    @clear="clear(one.at)" />
  <button v-if="!listed" type="button" class="btn btn-link btn-sm p-0" @click="instead">Do something else when it fails</button>
</template>
