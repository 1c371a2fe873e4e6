<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { computed } from 'vue'
import type { Setting } from '../api'
import { isSecret } from '../api'
import { blockOf, rowsOf } from '../sheet/columns'
import { usePlan } from '../stores/plan'
import { Choice } from './choice'

// A table of an entry: one row for each of its ports, sensors or cameras. A block that was
// copied from a spreadsheet is pasted where it belongs.
const value = defineModel<string>('value', { required: true })
const props = defineProps<{ setting: Setting }>()
const plan = usePlan()
type Row = Record<string, string>

const columns = computed(() => (props.setting.columns ?? []).filter((c) => c.type !== 'computed'))
// One empty row more than there are, to go on in.
const rows = computed<Row[]>(() => [...(rowsOf(value.value) ?? []), {}])
const options = (list: string[]) => list.map((v) => ({ label: v, value: v }))
function choicesOf(c: Setting): string[] | null {
  if (c.type === 'choice') return c.choices ?? []
  if (c.type === 'yes-no') return ['yes', 'no']
  if (c.type === 'entry')
    return plan.entries.filter((e) => !c.kinds?.length || c.kinds.includes(e.kind)).map((e) => e.tag)
  return null
}

function keep(list: Row[]) {
  const filled = list
    .map((r) => Object.fromEntries(Object.entries(r).filter(([, v]) => v !== '')))
    .filter((r) => Object.keys(r).length)
  value.value = filled.length ? JSON.stringify(filled) : ''
}

function set(i: number, key: string, text: string) {
  keep(rows.value.map((r, n) => (n === i ? { ...r, [key]: text } : r)))
}

function remove(i: number) {
  keep(rows.value.filter((_, n) => n !== i))
}

function paste(e: ClipboardEvent, i: number, column: number) {
  const text = e.clipboardData?.getData('text/plain') ?? ''
  if (!/[\t\n]/.test(text.trim())) return // an ordinary paste into one cell
  e.preventDefault()
  const list = rows.value.map((r) => ({ ...r }))
  blockOf(text).forEach((cells, n) => {
    const row = (list[i + n] ??= {})
    cells.forEach((cell, m) => {
      const c = columns.value[column + m]
      if (c) row[c.key] = cell
    })
  })
  keep(list)
}
</script>

<template>
  <div class="rows" :data-test="'rows-' + setting.key">
    <table>
      <thead>
        <tr>
          <th v-for="c in columns" :key="c.key">{{ c.label }}</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="(r, i) in rows" :key="i">
          <td v-for="(c, n) in columns" :key="c.key" @paste.capture="paste($event, i, n)">
            <Choice
              v-if="choicesOf(c)"
              :value="r[c.key] || null"
              :options="options(choicesOf(c)!)"
              size="tiny"
              filterable
              clearable
              :placeholder="c.default"
              :name="`${c.label}, row ${i + 1}`"
              @update:value="set(i, c.key, $event ?? '')" />
            <NInput
              v-else
              :value="isSecret(r[c.key] ?? '') ? '' : (r[c.key] ?? '')"
              size="tiny"
              :type="c.type === 'secret' ? 'password' : 'text'"
              :placeholder="isSecret(r[c.key] ?? '') ? '•••' : c.default"
              :input-props="{ 'aria-label': `${c.label}, row ${i + 1}`, autocomplete: 'off' }"
              @update:value="set(i, c.key, $event)" />
          </td>
          <td>
            <NButton
              v-if="i < rows.length - 1"
              size="tiny"
              quaternary
              :aria-label="`Remove row ${i + 1}`"
              @click="remove(i)"
              >×</NButton
            >
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.rows {
  width: 100%;
  overflow-x: auto;
}
table {
  border-spacing: 2px;
  width: 100%;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--faint);
  font-size: 12px;
}
td {
  min-width: 76px;
}
td:last-child {
  min-width: 0;
  width: 24px;
}
</style>
