<script setup lang="ts">
import { NAlert, NButton, NCheckbox, NIcon, NModal, NTable } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { computed, onMounted, ref, watch } from 'vue'
import { call, Problem, siteCall } from '../api'
import type { Cell, ImportResult } from '../api'
import { plural } from '../format'
import { Upload } from '../icons'
import { usePlan } from '../stores/plan'
import { useSite } from '../stores/site'
import type { Field } from '../sheet/columns'
import Comparison from './Comparison.vue'
import { Choice } from './choice'
import { Table } from './table'

// A plan file is shown as it was understood before anything is changed.
const show = defineModel<boolean>('show', { required: true })
const site = useSite()
const plan = usePlan()
const file = ref<File | null>(null)
const whole = ref(false)
const configured = ref(false)
const sheet = ref('')
const mapping = ref<Record<string, string> | null>(null)
const result = ref<ImportResult | null>(null)
const wrong = ref('')
const waiting = ref(false)
const fields = ref<Field[]>([])
onMounted(async () => (fields.value = await call('get', '/fields').catch(() => [])))
watch(show, () => {
  file.value = result.value = mapping.value = null
  wrong.value = sheet.value = ''
  whole.value = configured.value = false
})

async function send(preview: boolean) {
  if (!file.value) return
  waiting.value = true
  wrong.value = ''
  const query = {
    preview,
    apply: true,
    whole: whole.value,
    configured: configured.value,
    ...(sheet.value && { sheet: sheet.value }),
    ...(mapping.value && { mapping: JSON.stringify(mapping.value) }),
  }
  try {
    result.value = await siteCall('post', '/imports', { query, body: file.value })
    mapping.value = result.value.mapping
    sheet.value = result.value.sheet
    if (!preview) {
      show.value = false
      await plan.settle()
    }
  } catch (e) {
    result.value = null
    wrong.value = (e as Error).message
    if (e instanceof Problem && e.cells.length)
      wrong.value += ' ' + e.cells.map((c) => `Row ${c.row}: ${c.reason}`).join('. ')
  } finally {
    waiting.value = false
  }
}

function choose(event: Event) {
  const input = event.target as HTMLInputElement
  file.value = input.files?.[0] ?? null
  mapping.value = null
  sheet.value = ''
  void send(true)
  input.value = '' // the same file may be chosen again after it was mended
}

function map(header: string, field: string | null) {
  const next: Record<string, string> = {}
  for (const [h, f] of Object.entries(mapping.value ?? {})) next[h] = f === field && f ? '' : f
  mapping.value = { ...next, [header]: field ?? '' }
  void send(true)
}

const targets = computed(() => {
  const list = fields.value.map((f) => ({ label: f.label, value: f.key }))
  const seen = new Set(list.map((o) => o.value))
  for (const p of site.profiles)
    for (const s of p.settings ?? [])
      if (s.type !== 'computed' && !seen.has(s.key)) {
        seen.add(s.key)
        list.push({ label: `${s.label} (${p.kind})`, value: s.key })
      }
  return list
})
const counts = computed(() => {
  const c = result.value?.comparison
  if (!c) return ''
  const changed = new Set(c.changed.map((x) => x.tag)).size
  return (
    [
      c.added.length && `${c.added.length} added`,
      changed && `${changed} changed`,
      c.removed.length && `${c.removed.length} removed`,
    ]
      .filter(Boolean)
      .join(', ') || 'nothing changes'
  )
})
const levels = computed(() => {
  const n = { stops: 0, warning: 0, hint: 0 }
  for (const f of result.value?.findings ?? []) n[f.level as keyof typeof n]++
  return n
})
const cellColumns: DataTableColumns<Cell> = [
  { title: 'Row', key: 'row', width: 60 },
  { title: 'Column', key: 'column', width: 110 },
  { title: 'Value', key: 'value', width: 160, ellipsis: { tooltip: true } },
  { title: 'What is wrong', key: 'reason' },
]
const something = computed(
  () => !!result.value && !result.value.cells.length && (counts.value !== 'nothing changes' || !!result.value.site),
)
</script>

<template>
  <NModal v-model:show="show" preset="card" title="Import a plan" style="max-width: 1040px">
    <div class="row">
      <label class="file">
        <NIcon :component="Upload" /> {{ file ? file.name : 'Choose a CSV, XLSX or JSON file' }}
        <input type="file" accept=".csv,.xlsx,.json,text/csv" data-test="plan-file" @change="choose" />
      </label>
      <Choice
        name="Sheet"
        v-if="(result?.sheets.length ?? 0) > 1"
        :value="sheet"
        :options="result!.sheets.map((s) => ({ label: 'Sheet ' + s, value: s }))"
        size="small"
        class="sheet"
        @update:value="
          (s: string) => {
            sheet = s
            mapping = null
            void send(true)
          }
        " />
      <NCheckbox v-model:checked="whole" @update:checked="send(true)"
        >The file is the whole plan: remove what it lacks</NCheckbox
      >
      <NCheckbox v-if="result?.untouched.length || configured" v-model:checked="configured" @update:checked="send(true)"
        >Change configured devices’ entries too</NCheckbox
      >
      <a :href="`/api/sites/${site.key}/template`" download class="template">Empty workbook with drop-downs</a>
    </div>
    <p v-if="!file" class="faint">
      One row per device. Columns may have any names and any order; what they are is proposed and can be changed.
      Nothing is changed before you say so, and a file in which anything cannot be understood is refused whole.
    </p>
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert" data-test="import-error">{{ wrong }}</NAlert>
    <template v-if="result">
      <NAlert v-if="result.cells.length" type="error" :show-icon="false" role="alert" data-test="import-error">
        The plan was refused whole because of
        {{ result.cells.length === 1 ? 'one mistake' : result.cells.length + ' mistakes' }}; nothing was changed. Mend
        the rows and choose the file again.
      </NAlert>
      <Table
        v-if="result.cells.length"
        :columns="cellColumns"
        :data="result.cells"
        size="small"
        :max-height="220"
        virtual-scroll
        class="gap" />
      <h3>
        How the file is understood <span class="faint">{{ plural(result.rows, 'row') }}</span>
      </h3>
      <div class="scroll">
        <NTable size="small" :single-line="false" data-test="mapping">
          <thead>
            <tr>
              <th>Column</th>
              <th v-for="h in result.header" :key="h">{{ h }}</th>
            </tr>
          </thead>
          <tbody>
            <tr>
              <th>is</th>
              <td v-for="h in result.header" :key="h">
                <Choice
                  :value="result.mapping[h] || null"
                  :options="targets"
                  size="tiny"
                  filterable
                  clearable
                  placeholder="left out"
                  class="target"
                  :data-column="h"
                  :name="'Column ' + h"
                  @update:value="map(h, $event)" />
              </td>
            </tr>
            <tr v-for="s in result.samples.slice(0, 3)" :key="s.row">
              <th>row {{ s.row }}</th>
              <td v-for="h in result.header" :key="h" class="sample">{{ s.fields[result.mapping[h] ?? ''] ?? '' }}</td>
            </tr>
          </tbody>
        </NTable>
      </div>
      <template v-if="!result.cells.length">
        <h3>
          What it changes <span class="faint" data-test="import-counts">{{ counts }}</span>
        </h3>
        <Comparison :of="result.comparison" :height="200" />
        <p v-if="result.site">
          The file brings the site’s own data and {{ plural(result.site.subnets?.length ?? 0, 'subnet') }} as well.
        </p>
        <p v-if="result.untouched.length" data-test="untouched">
          <strong>Left alone</strong>, because their devices are configured:
          {{ [...new Set(result.untouched.map((c) => c.tag))].join(', ') }}
        </p>
        <p class="faint">
          The plan as it would be: {{ levels.stops }} stop commissioning, {{ plural(levels.warning, 'warning') }},
          {{ plural(levels.hint, 'hint') }}.
        </p>
      </template>
    </template>
    <template #footer>
      <div class="foot">
        <NButton @click="show = false">Cancel</NButton>
        <NButton type="primary" :disabled="!something" :loading="waiting" data-test="import-apply" @click="send(false)"
          >Import{{ something ? ': ' + counts : '' }}</NButton
        >
      </div>
    </template>
  </NModal>
</template>

<style scoped>
.row {
  display: flex;
  gap: 8px 16px;
  align-items: center;
  margin-bottom: 10px;
  flex-wrap: wrap;
}
.file {
  display: inline-flex;
  gap: 8px;
  align-items: center;
  padding: 6px 12px;
  border: 1px dashed var(--faint);
  border-radius: 4px;
  cursor: pointer;
}
.file:focus-within {
  outline: 2px solid #c65a2e;
}
.file input {
  position: absolute;
  opacity: 0;
  width: 1px;
  height: 1px;
}
.sheet {
  width: 180px;
}
.template {
  margin-left: auto;
  color: inherit;
}
.scroll {
  overflow-x: auto;
  max-width: 100%;
}
.target {
  min-width: 118px;
}
.sample {
  max-width: 160px;
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
  font-size: 13px;
}
th {
  white-space: nowrap;
}
h3 {
  font-size: 14px;
  margin: 12px 0 6px;
}
.gap {
  margin-top: 10px;
}
</style>
