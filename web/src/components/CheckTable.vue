<script setup lang="ts">
import type { DataTableColumns } from 'naive-ui'
import { computed, h } from 'vue'
import type { Check } from '../api'
import { Table } from './table'

// What was planned beside what was seen.
const props = defineProps<{ checks: Check[]; narrow: boolean }>()
const marks = { passed: '✓', failed: '▲', 'not looked at': '·' }
const verdict = {
  title: 'Result',
  key: 'verdict',
  width: 115,
  render: (c: Check) => `${marks[c.verdict]} ${c.verdict}`,
}
const columns = computed<DataTableColumns<Check>>(() =>
  props.narrow
    ? [
        {
          title: 'Check',
          key: 'name',
          render: (c) => [
            c.name,
            h(
              'div',
              { class: 'faint' },
              c.verdict === 'failed' ? `expected ${c.expected}, observed ${c.observed}` : c.observed,
            ),
            c.by ? h('div', { class: 'faint' }, c.by) : null,
          ],
        },
        verdict,
      ]
    : [
        { title: 'Check', key: 'name', width: 130 },
        { title: 'Expected', key: 'expected', minWidth: 150 },
        {
          title: 'Observed',
          key: 'observed',
          minWidth: 120,
          render: (c) => [c.observed, c.by ? h('div', { class: 'faint' }, c.by) : null],
        },
        verdict,
      ],
)
</script>

<template>
  <Table
    :columns="columns"
    :data="checks"
    size="small"
    data-test="checks"
    :row-props="
      (c: Check) => ({ class: c.verdict === 'failed' ? 'failing' : c.verdict === 'passed' ? '' : 'unseen' })
    " />
</template>

<style scoped>
:deep(.failing td) {
  color: var(--bad);
  font-weight: 600;
}
:deep(.unseen td) {
  font-style: italic;
}
</style>
