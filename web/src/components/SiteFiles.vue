<script setup lang="ts">
import { NButton, NTable, useMessage } from 'naive-ui'
import { ref, watch } from 'vue'
import type { Bodies } from '../api'
import { siteCall, siteURL } from '../api'
import { clock } from '../format'
import { usePlan } from '../stores/plan'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'

// Files that entries refer to, such as licences.
const session = useSession()
const site = useSite()
const plan = usePlan()
const message = useMessage()
const files = ref<Bodies['File'][]>([])
watch(
  () => [plan.revision, site.key],
  async () => {
    files.value = site.key ? await siteCall('get', '/files').catch(() => []) : []
  },
  { immediate: true },
)

async function attempt(what: () => Promise<unknown>) {
  try {
    await what()
    await plan.settle()
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  }
}
function add(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (file) void attempt(() => siteCall('put', '/files/{name}', { path: { name: file.name }, body: file }))
  input.value = ''
}
const usedBy = (name: string) =>
  plan.entries.filter((e) => Object.values(e.settings ?? {}).includes(name)).map((e) => e.tag)
</script>

<template>
  <h3>Files</h3>
  <NTable v-if="files.length" size="small" :bordered="false" data-test="files">
    <tbody>
      <tr v-for="f in files" :key="f.name">
        <td>
          <a :href="siteURL('files/' + encodeURIComponent(f.name))" download
            ><strong>{{ f.name }}</strong></a
          >
        </td>
        <td>{{ f.size }} bytes</td>
        <td class="mono" :title="f.sha256">{{ f.sha256.slice(0, 12) }}…</td>
        <td>{{ clock(f.at) }}, {{ f.who }}</td>
        <td>{{ usedBy(f.name).join(', ') || 'not used' }}</td>
        <td>
          <NButton
            v-if="session.mayPlan"
            size="tiny"
            @click="attempt(() => siteCall('delete', '/files/{name}', { path: { name: f.name } }))"
            >Remove</NButton
          >
        </td>
      </tr>
    </tbody>
  </NTable>
  <p v-if="session.mayPlan">
    <label>Store a file, such as a licence: <input type="file" data-test="file-add" @change="add" /></label>
  </p>
</template>
