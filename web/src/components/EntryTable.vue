<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { NButton, NInput } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { computed, h, ref } from 'vue'
import type { Entry } from '../api'
import SelectTable from './SelectTable.vue'
import { clock, plural, searched, states } from '../format'
import { usePlan } from '../stores/plan'
import { useSession } from '../stores/session'
import { useWork } from '../stores/work'
import StateMark from './StateMark.vue'
import { Choice } from './choice'

const session = useSession()
const plan = usePlan()
const work = useWork()
const emit = defineEmits<{
  show: [tag: string]
  commission: [tags: string[]]
  verify: [tags: string[]]
  unmatch: [tags: string[]]
  import: []
}>()
const stateFilter = defineModel<string[]>('states', { required: true })
const search = ref('')
const kinds = ref<string[]>([])
const selected = ref<string[]>([])
const narrow = useMediaQuery('(max-width: 900px)')

const options = (values: string[]) => values.map((v) => ({ label: v, value: v }))
const kindOptions = computed(() => options([...new Set(plan.entries.map((e) => e.kind))].sort()))
// A row is an entry with what is happening to it right now.
interface Row extends Entry {
  shown: string
  now: string
}
const all = computed<Row[]>(() =>
  plan.entries.map((e) => {
    const now = doing(e)
    const shown = e.unwired
      ? 'not wired yet'
      : e.differs?.length
        ? 'differs'
        : now && e.state !== 'needs attention'
          ? 'configuring'
          : e.state
    return {
      ...e,
      now:
        now ||
        (e.differs ?? []).join('; ') ||
        (e.state === 'configured' && e.notLookedAt?.length ? 'not looked at: ' + e.notLookedAt.join(', ') : ''),
      shown,
    }
  }),
)
const rows = computed(() => {
  const has = searched(search.value)
  return all.value.filter((e) => {
    if (stateFilter.value.length && !stateFilter.value.includes(e.shown)) return false
    if (kinds.value.length && !kinds.value.includes(e.kind)) return false
    if (!search.value) return true
    return has(
      `${e.tag} ${e.shown} ${e.kind} ${e.place} ${e.name} ${e.address} ${e.present} ${e.device} ${e.boxSerial || e.serial}`,
    )
  })
})
// Only what is both selected and still shown is acted on.
const acting = computed(() => {
  const visible = new Set(rows.value.map((e) => e.tag))
  return selected.value.filter((t) => visible.has(t))
})
// All or none is undone: what a run has set, or somebody locked, is left out here.
const undoable = computed(() =>
  plan.entries
    .filter(
      (e) => acting.value.includes(e.tag) && e.device && !e.locked && ['matched', 'needs attention'].includes(e.state),
    )
    .map((e) => e.tag),
)

function doing(e: Entry): string {
  const d = work.stepOf(e.tag)
  if (e.state === 'needs attention') return e.reason
  if (!d) return ''
  if (d.state === 'parked') return `by hand: ${d.hand?.do}`
  if (d.state === 'running') return `${d.done + 1}/${d.steps} ${d.step}`
  return d.state === 'waiting' ? d.step || 'waiting for its turn' : ''
}

const by = (key: keyof Row) => (a: Row, b: Row) =>
  String(a[key] ?? '').localeCompare(String(b[key] ?? ''), 'en', { numeric: true })
const mono = (text: string) => h('span', { class: 'mono' }, text || '–')
const columns = computed<DataTableColumns<Row>>(() => {
  const tag = {
    title: 'Tag',
    key: 'tag',
    width: narrow.value ? undefined : 148,
    sorter: by('tag'),
    fixed: narrow.value ? undefined : ('left' as const),
    render: (e: Row) => [
      h('button', { class: 'link', 'data-test': 'tag', onClick: () => emit('show', e.tag) }, e.tag),
      narrow.value ? h('div', { class: 'faint' }, `${e.place}, ${e.present || e.address}`) : null,
      narrow.value && e.now ? h('div', { class: 'faint' }, e.now) : null,
    ],
  }
  const state = {
    title: 'State',
    key: 'state',
    width: narrow.value ? 150 : 135,
    sorter: (a: Row, b: Row) => states.indexOf(a.shown) - states.indexOf(b.shown),
    render: (e: Row) => h(StateMark, { state: e.shown }),
  }
  const select = { type: 'selection' as const, width: 40, fixed: narrow.value ? undefined : ('left' as const) }
  if (narrow.value) return [select, tag, state]
  return [
    select,
    tag,
    state,
    { title: 'Place', key: 'place', width: 140, sorter: by('place'), ellipsis: { tooltip: true } },
    { title: 'Kind', key: 'kind', width: 110, ellipsis: { tooltip: true }, sorter: by('kind') },
    { title: 'Planned', key: 'address', width: 108, sorter: by('address'), render: (e) => mono(e.address) },
    {
      title: 'Present',
      key: 'present',
      width: 125,
      sorter: by('present'),
      render: (e) =>
        h(
          'span',
          { class: ['mono', e.present && e.present !== e.address ? 'other' : ''] },
          e.present || (e.hangsAs ? 'behind ' + e.behind : e.device && e.seen && !e.here ? 'away' : '–'),
        ),
    },
    { title: 'MAC', key: 'device', width: 150, sorter: by('device'), render: (e) => mono(e.device) },
    { title: 'Now', key: 'now', minWidth: 170, ellipsis: { tooltip: true } },
    { title: 'Last check', key: 'checkedAt', width: 112, sorter: by('checkedAt'), render: (e) => clock(e.checkedAt) },
  ]
})
</script>

<template>
  <div class="wrap">
    <div class="tools">
      <NInput
        v-model:value="search"
        clearable
        size="small"
        placeholder="Search tag, place, address, MAC, serial"
        class="search"
        :input-props="{ 'aria-label': 'Search entries' }" />
      <Choice
        name="Any state"
        v-model:value="stateFilter"
        multiple
        clearable
        size="small"
        :options="options(states)"
        placeholder="Any state"
        max-tag-count="responsive"
        class="filter" />
      <Choice
        name="Any kind"
        v-model:value="kinds"
        multiple
        clearable
        size="small"
        :options="kindOptions"
        placeholder="Any kind"
        max-tag-count="responsive"
        class="filter" />
      <template v-if="acting.length">
        <strong>{{ plural(acting.length, 'entry') }} selected</strong>
        <NButton size="small" :disabled="!session.mayCommission" @click="emit('commission', acting)"
          >Commission</NButton
        >
        <NButton size="small" :disabled="!session.mayCommission" @click="emit('verify', acting)">Verify</NButton>
        <NButton size="small" :disabled="!session.mayCommission || !undoable.length" @click="emit('unmatch', undoable)"
          >Undo match{{ undoable.length > 1 ? 'es' : '' }}</NButton
        >
      </template>
      <span v-else class="faint">{{
        rows.length === plan.entries.length ? '' : `${rows.length} of ${plan.entries.length} shown`
      }}</span>
    </div>
    <div v-if="!plan.entries.length" class="empty">
      <p>The plan is empty. Import a file, or write it under Plan.</p>
      <NButton type="primary" @click="emit('import')">Import the plan</NButton>
    </div>
    <SelectTable
      v-else
      v-model:chosen="selected"
      :narrow="narrow"
      :height="560"
      :columns="columns"
      :data="rows"
      :row-key="(e: Row) => e.tag"
      :wide="1140"
      class="table" />
  </div>
</template>

<style scoped>
.wrap {
  height: 100%;
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.search {
  width: 330px;
}
.filter {
  width: 170px;
}
.table {
  flex: 1;
  min-height: 160px;
}
.table :deep(.other) {
  color: var(--warn);
}
.table :deep(td) {
  font-variant-numeric: tabular-nums;
}
.empty {
  text-align: center;
  padding: 48px 0;
}
@media (max-width: 900px) {
  .search {
    width: 100%;
  }
  .filter {
    width: calc(50% - 4px);
  }
}
</style>
