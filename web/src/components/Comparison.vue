<script setup lang="ts">
import type { DataTableColumns } from 'naive-ui'
import { computed } from 'vue'
import type { Comparison } from '../api'
import { isSecret } from '../api'
import { inShort } from '../sheet/columns'
import { Table } from './table'

// What a change does to the plan, entry by entry and field by field.
const props = defineProps<{ of: Comparison; height?: number }>()
interface Row {
  key: string
  tag: string
  what: string
  before: string
  after: string
}
const plain = (v: string) => (isSecret(v) ? '•••' : inShort(v) || '–')
const rows = computed<Row[]>(() => [
  ...props.of.removed.map((e) => ({
    key: '-' + e.tag,
    tag: e.tag,
    what: '− removed',
    before: `${e.profile} ${e.address}`,
    after: '',
  })),
  ...props.of.changed.map((c) => ({
    key: c.tag + c.field,
    tag: c.tag,
    what: c.field,
    before: plain(c.before),
    after: plain(c.after),
  })),
  ...props.of.added.map((e) => ({
    key: '+' + e.tag,
    tag: e.tag,
    what: '+ added',
    before: '',
    after: [e.profile, e.address || 'no address', e.name, e.place].filter(Boolean).join('  '),
  })),
])
const columns: DataTableColumns<Row> = [
  { title: 'Tag', key: 'tag', width: 150 },
  { title: 'What', key: 'what', width: 110 },
  { title: 'Before', key: 'before', ellipsis: { tooltip: true }, minWidth: 110 },
  { title: 'After', key: 'after', ellipsis: { tooltip: true }, minWidth: 160 },
]
</script>

<template>
  <p v-if="!rows.length" class="faint">Nothing changes.</p>
  <Table
    v-else
    :columns="columns"
    :data="rows"
    :row-key="(r: Row) => r.key"
    size="small"
    :max-height="height ?? 260"
    virtual-scroll
    :min-row-height="31"
    data-test="comparison" />
</template>
