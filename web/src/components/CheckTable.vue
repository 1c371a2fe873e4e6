<script setup lang="ts">
import { NButton } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { computed, h, ref } from 'vue'
import type { Check } from '../api'
import { useSession } from '../stores/session'
import SayDialog from './SayDialog.vue'
import { Table } from './table'

// What was planned beside what was seen.
const props = defineProps<{ tag: string; checks: Check[]; narrow: boolean }>()
const session = useSession()
const saying = ref<Check | null>(null)
const marks = { passed: '✓', failed: '▲', said: '“', 'not looked at': '·' }
const verdict = {
  title: 'Result',
  key: 'verdict',
  width: 115,
  render: (c: Check) => [
    `${marks[c.verdict]} ${c.verdict}`,
    session.mayCommission && c.untold && (c.verdict === 'not looked at' || c.verdict === 'said')
      ? h(
          'div',
          h(NButton, { text: true, size: 'tiny', 'data-test': 'say', onClick: () => (saying.value = c) }, () =>
            c.verdict === 'said' ? 'Take it back' : 'I know it…',
          ),
        )
      : null,
  ],
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
  <SayDialog :tag="tag" :check="saying" @done="saying = null" />
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
