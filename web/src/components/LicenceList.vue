<script setup lang="ts">
import { NButton, NInput, NTable, useDialog, useMessage } from 'naive-ui'
import { computed, h, ref, watch } from 'vue'
import type { Licence } from '../api'
import { siteCall, siteFile } from '../api'
import { clock, plural, searched } from '../format'
import { usePlan } from '../stores/plan'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'

// Licences by host id: what they are made for, collected for the supplier, and taken back.
const session = useSession()
const site = useSite()
const plan = usePlan()
const message = useMessage()
const dialog = useDialog()
const list = ref<Licence[]>([])
const search = ref('')
async function load() {
  list.value = site.key ? await siteCall('get', '/licences').catch(() => []) : []
}
watch(() => [plan.revision, site.key], load, { immediate: true })
const shown = computed(() => {
  const has = searched(search.value)
  return list.value.filter((l) => has([l.tag, l.maker, l.model, l.serial, l.mac, l.host, l.state, l.file].join(' ')))
})
const toAsk = computed(
  () => list.value.filter((l) => l.host && l.state !== 'accepted' && l.state !== 'to be sent').length,
)

async function collect(format: 'csv' | 'xlsx') {
  const collected = await siteFile('/licences/collection', { query: { format } }).catch(
    (e: Error) => void message.error(e.message, { duration: 8000 }),
  )
  if (!collected) return
  const link = document.createElement('a')
  link.href = URL.createObjectURL(collected)
  link.download = `${site.key}-licences.${format}`
  link.click()
  URL.revokeObjectURL(link.href)
  await load()
}

async function take(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  input.value = ''
  if (!file) return
  const query = { name: file.name }
  try {
    const preview = await siteCall('post', '/licences', { query: { ...query, preview: true }, body: file })
    dialog.info({
      title: `${plural(preview.taken, 'licence')} of ${plural(preview.files.length, 'file')}`,
      style: 'width: 640px',
      content: () =>
        h(
          'div',
          { style: 'max-height: 320px; overflow: auto' },
          preview.files.map((f) =>
            h('p', { style: 'margin: 4px 0' }, [`${f.file}: `, f.tag ? h('strong', f.tag) : f.why]),
          ),
        ),
      positiveText: preview.taken ? 'Take them in' : undefined,
      negativeText: 'Cancel',
      positiveButtonProps: { 'data-test': 'licences-apply' } as object,
      onPositiveClick: async () => {
        await siteCall('post', '/licences', { query, body: file }).catch((e: Error) => message.error(e.message))
        await plan.settle()
        await load()
      },
    })
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  }
}
</script>

<template>
  <p class="faint">
    Devices tell what their licence is made for when they are commissioned or verified. What comes back from the
    supplier is matched by the host id in it, whatever its file is called; the next run sends it.
  </p>
  <p class="row">
    <NInput
      v-model:value="search"
      size="small"
      class="search"
      clearable
      placeholder="Search"
      :input-props="{ 'aria-label': 'Search licences' }" />
    <template v-if="session.mayPlan">
      <NButton size="small" :disabled="!toAsk" data-test="licences-csv" @click="collect('csv')"
        >Host ids for the supplier, CSV: {{ toAsk }}</NButton
      >
      <NButton size="small" :disabled="!toAsk" @click="collect('xlsx')">XLSX</NButton>
      <label
        >Take back a licence or a ZIP archive: <input type="file" data-test="licences-take" @change="take"
      /></label>
    </template>
  </p>
  <p v-if="!list.length" class="faint">No device in the plan takes a licence.</p>
  <NTable v-else size="small" :bordered="false" data-test="licences">
    <thead>
      <tr>
        <th>Entry</th>
        <th>Model</th>
        <th>Host id</th>
        <th>Told</th>
        <th>Licence</th>
        <th>File</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="l in shown" :key="l.tag + l.key">
        <td>
          <strong>{{ l.tag }}</strong>
        </td>
        <td>{{ l.maker }} {{ l.model }}</td>
        <td class="mono">{{ l.host || '–' }}</td>
        <td>{{ clock(l.toldAt) }}</td>
        <td>
          {{ l.state }}
          <div v-if="l.why" class="faint">{{ l.why }}</div>
        </td>
        <td>{{ l.file || '–' }}</td>
      </tr>
    </tbody>
  </NTable>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.search {
  width: 200px;
}
</style>
