<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { NButton, NInput, useDialog, useMessage } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { computed, h, ref } from 'vue'
import type { PlanFinding } from '../api'
import { siteCall } from '../api'
import SelectTable from '../components/SelectTable.vue'
import { plural, searched } from '../format'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import { Choice } from '../components/choice'

// What is wrong with the plan, and what takes it away; what a person should know
// of the segment.
const session = useSession()
const plan = usePlan()
const site = useSite()
const segment = useSegment()
const message = useMessage()
const dialog = useDialog()
const narrow = useMediaQuery('(max-width: 900px)')
const search = ref('')
const levels = ref<string[]>([])
const selected = ref<string[]>([])
const marks: Record<string, string> = { stops: '▲', warning: '◆', hint: '·' }
const order = ['stops', 'warning', 'hint']
interface Row extends PlanFinding {
  id: string
  who: string
  name: string
}
// What stops commissioning comes first.
const all = computed<Row[]>(() =>
  [
    ...plan.findings.map((f, i) => ({
      ...f,
      id: String(i),
      who: f.tag || (f.profile ? `all ${f.profile}` : 'the site'),
    })),
    // A conflict with the plan is among the plan's own findings already.
    ...segment.findings
      .filter((f) => f.kind !== 'plan-conflict')
      .map((f, i) => ({
        id: 's' + i,
        code: f.kind,
        level: f.quiet ? 'hint' : 'warning',
        tag: '',
        field: 'segment',
        who: f.tag || f.macs.slice(0, 3).join(' ') + (f.macs.length > 3 ? ` and ${f.macs.length - 3} more` : ''),
        reason: f.text + (f.next ? '; ' + f.next : ''),
      })),
  ]
    .map((f) => ({ ...f, name: f.code.replaceAll('-', ' ') }))
    .sort((a, b) => order.indexOf(a.level) - order.indexOf(b.level)),
)
const rows = computed(() => {
  const has = searched(search.value)
  return all.value.filter(
    (f) =>
      (!levels.value.length || levels.value.includes(f.level)) &&
      has(`${f.name} ${f.code} ${f.who} ${f.field} ${f.reason}`),
  )
})
const count = (level: string) => all.value.filter((f) => f.level === level).length
const safe = computed(() => all.value.filter((f) => f.mend?.safe).length)
const mendable = computed(() => rows.value.filter((f) => f.mend && f.tag && selected.value.includes(f.id)))

async function apply(list: Row[]) {
  try {
    await siteCall('patch', '/entries', {
      body: {
        what: `mended: ${[...new Set(list.map((f) => f.name))].join(', ')}`,
        patches: list.map((f) => ({ tag: f.tag, set: { [f.mend!.field]: f.mend!.value } })),
        configured: false,
      },
    })
    selected.value = []
    await plan.settle()
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  }
}

async function applySafe() {
  const preview = await siteCall('post', '/mends', { query: { preview: true }, body: { all: true } }).catch(
    (e: Error) => void message.error(e.message),
  )
  if (!preview) return
  dialog.info({
    title: plural(preview.changes.length, 'safe mend'),
    style: 'width: 640px',
    content: () =>
      h(
        'div',
        { style: 'max-height: 320px; overflow: auto' },
        preview.changes.map((c) =>
          h('p', { style: 'margin: 4px 0' }, [
            h('strong', c.tag),
            ` ${c.field}: ${c.before || '–'} → ${c.after || '–'} `,
            h('span', { class: 'faint' }, c.why),
          ]),
        ),
      ),
    positiveText: 'Apply them',
    negativeText: 'Cancel',
    positiveButtonProps: { 'data-test': 'mend-apply' } as object,
    onPositiveClick: async () => {
      await siteCall('post', '/mends', { body: { all: true } }).catch((e: Error) => message.error(e.message))
      await plan.settle()
    },
  })
}

const text = (f: (r: Row) => string) => (a: Row, b: Row) => f(a).localeCompare(f(b), 'en', { numeric: true })
const level = (f: Row) =>
  h(
    'span',
    {
      style: {
        color: f.level === 'stops' ? 'var(--bad)' : f.level === 'warning' ? 'var(--warn)' : 'var(--faint)',
        fontWeight: 600,
        whiteSpace: 'nowrap',
      },
    },
    `${marks[f.level]} ${f.level}`,
  )
const mend = (f: Row) =>
  f.mend && f.tag && session.mayPlan
    ? h(
        NButton,
        { size: 'tiny', onClick: () => void apply([f]) },
        () => `${f.mend!.field} = ${f.mend!.value || 'none'}${f.mend!.safe ? ' (safe)' : ''}`,
      )
    : null
const columns = computed<DataTableColumns<Row>>(() =>
  narrow.value
    ? [
        {
          title: 'Finding',
          key: 'who',
          render: (f) => [h('div', [level(f), ' ', h('strong', f.who)]), h('div', `${f.field}: ${f.reason}`), mend(f)],
        },
      ]
    : [
        { type: 'selection', width: 40, disabled: (f) => !f.mend || !f.tag },
        {
          title: 'Level',
          key: 'level',
          width: 95,
          sorter: (a, b) => order.indexOf(a.level) - order.indexOf(b.level),
          render: level,
        },
        { title: 'Finding', key: 'name', width: 150, sorter: text((f) => f.name) },
        { title: 'Entry', key: 'who', width: 165, sorter: text((f) => f.who), className: 'wrap' },
        { title: 'Field', key: 'field', width: 130, sorter: text((f) => f.field), ellipsis: { tooltip: true } },
        { title: 'Reason', key: 'reason', minWidth: 300, className: 'wrap' },
        { title: 'Mend', key: 'mend', width: 215, render: mend },
      ],
)
</script>

<template>
  <div class="page">
    <div class="tools">
      <NInput
        v-model:value="search"
        clearable
        size="small"
        placeholder="Search findings"
        class="search"
        :input-props="{ 'aria-label': 'Search findings' }" />
      <Choice
        name="Any level"
        v-model:value="levels"
        multiple
        clearable
        size="small"
        :options="order.map((v) => ({ label: v, value: v }))"
        placeholder="Any level"
        class="filter"
        max-tag-count="responsive" />
      <span v-if="plan.checked" data-test="finding-counts"
        ><strong>{{ count('stops') }}</strong> stop commissioning, {{ plural(count('warning'), 'warning') }},
        {{ plural(count('hint'), 'hint') }}</span
      >
      <span class="grow" />
      <NButton v-if="mendable.length" size="small" @click="apply(mendable)"
        >Mend {{ mendable.length }} selected</NButton
      >
      <NButton v-if="safe && session.mayPlan" size="small" type="primary" data-test="mend-all" @click="applySafe">{{
        safe === 1 ? 'The safe mend' : `All ${safe} safe mends`
      }}</NButton>
    </div>
    <p v-if="!all.length" class="empty">
      {{
        plan.checked
          ? 'Nothing is wrong with the plan, and the segment is in order.'
          : site.key
            ? 'The plan is being checked.'
            : 'There is no site yet.'
      }}
    </p>
    <SelectTable
      v-else
      v-model:chosen="selected"
      :columns="columns"
      :data="rows"
      :row-key="(f: Row) => f.id"
      class="table"
      data-test="findings" />
  </div>
</template>

<style scoped>
.search {
  width: 260px;
}
.filter {
  width: 180px;
}
.table {
  flex: 1;
  min-height: 200px;
}
.empty {
  text-align: center;
  padding: 48px 0;
  color: var(--ok);
  font-weight: 600;
}
@media (max-width: 900px) {
  .search,
  .filter {
    width: 100%;
  }
}
</style>
