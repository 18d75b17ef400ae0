<script setup lang="ts">
import TimeText from '../components/TimeText.vue'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { BButton } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { api, data, type Schemas } from '../api/client'
import CopyText from '../components/CopyText.vue'
import FilePreview from '../components/FilePreview.vue'
import LoadingLines from '../components/LoadingLines.vue'
import MoreButton from '../components/MoreButton.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useAct } from '../lib/act'
import { keep, addressOf, type FileValue, size } from '../lib/files'
import { useList } from '../lib/lists'

type File_ = Schemas['FileOut']
const files = useList(['files'], (query) => data(api.GET('/api/v1/files', { params: { query } })))
const client = useQueryClient()
const open = ref('')
const address = ref('')
const chosen = ref<HTMLInputElement | null>(null)
const { act, busy, problem } = useAct('files')
const valueOf = (one: File_): FileValue => ({ file: one.file, name: one.name, type: one.type, size: one.size })
const { data: about, error: aboutProblem } = useQuery({
  queryKey: ['files', open],
  queryFn: () => data(api.GET('/api/v1/files/{file_id}', { params: { path: { file_id: open.value } } })),
  enabled: computed(() => !!open.value),
})
function show(one: File_): void {
  address.value = ''
  open.value = open.value === one.file ? '' : one.file
}
const add = (event: Event) =>
  act('add', async () => {
    for (const one of Array.from((event.target as HTMLInputElement).files ?? [])) {
      await keep(one)
    }
    if (chosen.value) chosen.value.value = ''
    await client.invalidateQueries({ queryKey: ['files'] })
  })
const share = (one: File_) =>
  act('share', async () => {
    const body = { minutes: 60, name: '', type: '' }
    address.value = (await data(api.POST('/api/v1/files/{file_id}/address', { params: { path: { file_id: one.file } }, body }))).url
  })
const held = computed(() => !!about.value && (about.value.runs.length || about.value.rows.length || about.value.samples.length))
</script>

<template>
  <div class="head">
    <h1>Files</h1>
    <p class="quiet">What runs were given and gave; each goes two days after nothing refers to it any more.</p>
    <input ref="chosen" type="file" multiple hidden @change="add" />
    <BButton variant="primary" :disabled="busy === 'add'" @click="chosen?.click()">{{ busy === 'add' ? 'Adding…' : 'Add files' }}</BButton>
  </div>
  <ProblemNote v-if="problem" :problem="problem" />
  <ProblemNote v-if="files.query.error.value" :problem="files.query.error.value" />
  <LoadingLines v-else-if="files.query.isPending.value" />
  <p v-else-if="!files.items.value.length">
    None yet. They come by webhooks with <span class="mono">files: true</span>, by downloads of <span class="mono">http.request</span>, and from here.
  </p>
  <template v-else>
    <table class="table">
      <thead>
        <tr>
          <th>Name</th>
          <th class="wide-only">Type</th>
          <th class="num">Size</th>
          <th class="wide-only">Kept since</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="one in files.items.value" :key="one.file">
          <tr>
            <td>
              <button type="button" class="btn btn-link p-0 text-start name" :aria-expanded="open === one.file" @click="show(one)">
                {{ one.name }}
              </button>
            </td>
            <td class="wide-only">{{ one.type }}</td>
            <td class="num">{{ size(one.size) }}</td>
            <td class="wide-only"><TimeText :at="one.created_at" /></td>
          </tr>
          <tr v-if="open === one.file">
            <td colspan="4">
              <FilePreview :file="valueOf(one)" />
              <p class="acts">
                <a :href="addressOf(valueOf(one))" :download="one.name" class="btn btn-sm btn-outline-primary">Take it down</a>
                <BButton size="sm" variant="link" :disabled="busy === 'share'" @click="share(one)">An address for an hour</BButton>
              </p>
              <p v-if="address" role="status">
                <CopyText :text="address" /><br /><span class="quiet">Whoever has it reads the file without signing in.</span>
              </p>
              <ProblemNote v-if="aboutProblem" :problem="aboutProblem" />
              <dl v-else-if="about && about.file === one.file">
                <dt>Its value</dt>
                <dd class="mono">{{ JSON.stringify({ file: one.file, name: one.name, type: one.type, size: one.size }) }}</dd>
                <template v-if="about.runs.length">
                  <dt>Runs</dt>
                  <dd>
                    <RouterLink v-for="run in about.runs" :key="run" :to="`/runs/${run}`" class="mono me-2">{{ run.slice(-12) }}</RouterLink>
                  </dd>
                </template>
                <template v-if="about.rows.length">
                  <dt>Rows</dt>
                  <dd>{{ about.rows.map((row) => `${row.table} (${row.row.slice(-12)})`).join(', ') }}</dd>
                </template>
                <template v-if="about.samples.length">
                  <dt>Samples</dt>
                  <dd>
                    <RouterLink v-for="(each, n) in about.samples" :key="n" :to="`/workflows/${each.workflow}`" class="me-2"
                      >{{ each.sample }} of {{ each.workflow }}</RouterLink
                    >
                  </dd>
                </template>
                <template v-if="!held">
                  <dt>Referred to by</dt>
                  <dd class="quiet">nothing: it goes when that is so for two days</dd>
                </template>
              </dl>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
    <MoreButton :list="files" />
  </template>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0.5rem 1rem;
  margin-bottom: 1rem;
}
.head p {
  margin: 0 auto 0 0;
}
.name {
  overflow-wrap: anywhere;
}
.acts {
  margin: 0.5rem 0;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0.15rem 1rem;
}
dt {
  font-weight: 400;
  color: var(--relay-quiet);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
