<script setup lang="ts">
import { Upload } from '@vicons/tabler'
import { NAlert, NButton, NCheckbox, NDataTable, NIcon, NModal } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { ref, watch } from 'vue'
import { call, Problem } from '../api'
import type { Cell, PlanEntry } from '../api'
import { plural } from '../format'
import { useSite } from '../site'

const show = defineModel<boolean>('show', { required: true })
const site = useSite()
const file = ref<File | null>(null)
const replace = ref(false)
const preview = ref<PlanEntry[]>([])
const wrong = ref('')
const cells = ref<Cell[]>([])
const waiting = ref(false)
watch(show, () => {
  file.value = null
  preview.value = []
  cells.value = []
  wrong.value = ''
})

async function send(onlyPreview: boolean) {
  if (!file.value) return
  waiting.value = true
  wrong.value = ''
  cells.value = []
  try {
    preview.value = await call<PlanEntry[]>('POST', `entries?preview=${onlyPreview}&replace=${replace.value}`, file.value)
    if (!onlyPreview) {
      show.value = false
      await site.loadPlan()
    }
  } catch (e) {
    preview.value = []
    wrong.value = (e as Error).message
    if (e instanceof Problem) cells.value = e.cells
  } finally {
    waiting.value = false
  }
}

function choose(event: Event) {
  file.value = (event.target as HTMLInputElement).files?.[0] ?? null
  void send(true)
}

const columns: DataTableColumns<PlanEntry> = ['tag', 'kind', 'profile', 'place', 'address', 'name', 'mac', 'serial'].map((key) => ({
  title: key === 'mac' ? 'MAC' : key.charAt(0).toUpperCase() + key.slice(1), key, ellipsis: { tooltip: true }, minWidth: 100,
}))
const cellColumns: DataTableColumns<Cell> = [
  { title: 'Row', key: 'row', width: 60 },
  { title: 'Column', key: 'column', width: 90 },
  { title: 'Value', key: 'value', width: 160, ellipsis: { tooltip: true } },
  { title: 'What is wrong', key: 'reason' },
]
</script>

<template>
  <NModal v-model:show="show" preset="card" title="Import the plan" style="max-width: 1000px">
    <p class="intro">A CSV file with one row per device. Columns, in any order: tag, kind, profile, place, address (or “next”), name (or “auto”), mac, serial. It is taken whole or not at all.</p>
    <div class="row">
      <label class="file">
        <NIcon :component="Upload" /> {{ file ? file.name : 'Choose a file' }}
        <input type="file" accept=".csv,text/csv" data-test="plan-file" @change="choose">
      </label>
      <NCheckbox v-model:checked="replace" @update:checked="send(true)">Replace the present plan</NCheckbox>
    </div>
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert" data-test="import-error">{{ wrong }}</NAlert>
    <NDataTable v-if="cells.length" :columns="cellColumns" :data="cells" size="small" :max-height="300" virtual-scroll class="gap" />
    <template v-if="preview.length">
      <p><strong>{{ plural(preview.length, 'entry') }}</strong> as they will be added:</p>
      <NDataTable :columns="columns" :data="preview" size="small" :max-height="320" virtual-scroll :scroll-x="900" />
    </template>
    <template #footer>
      <div class="foot">
        <NButton @click="show = false">Cancel</NButton>
        <NButton type="primary" :disabled="!preview.length" :loading="waiting" data-test="import-apply" @click="send(false)">
          {{ replace ? 'Replace the plan' : `Add ${preview.length ? plural(preview.length, 'entry') : ''}` }}
        </NButton>
      </div>
    </template>
  </NModal>
</template>

<style scoped>
.intro { margin: 0 0 10px; }
.row { display: flex; gap: 16px; align-items: center; margin-bottom: 10px; flex-wrap: wrap; }
.file { display: inline-flex; gap: 8px; align-items: center; padding: 6px 12px; border: 1px dashed var(--faint); border-radius: 4px; cursor: pointer; }
.file:focus-within { outline: 2px solid #c65a2e; }
.file input { position: absolute; opacity: 0; width: 1px; height: 1px; }
.gap { margin-top: 10px; }
.foot { display: flex; justify-content: flex-end; gap: 8px; }
</style>
