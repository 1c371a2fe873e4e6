<script setup lang="ts">
import { useMediaQuery, useStorage } from '@vueuse/core'
import { NButton, NDropdown, NInput, NSwitch, useDialog } from 'naive-ui'
import { computed, ref } from 'vue'
import { siteCall, siteURL } from '../api'
import type { Device } from '../api'
import { modelOf, partsOf, placeOf, stateOf } from '../device'
import SelectTable from './SelectTable.vue'
import { plural, searched } from '../format'
import type { Row } from '../found/columns'
import { useFoundColumns } from '../found/columns'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { useWork } from '../stores/work'
import AdoptDialog from './AdoptDialog.vue'
import DeviceDrawer from './DeviceDrawer.vue'
import FindDialog from './FindDialog.vue'
import HandOutDialog from './HandOutDialog.vue'
import SurveysDialog from './SurveysDialog.vue'
import { Choice } from './choice'

// Everything found on the segment, live. What hangs behind a device hangs under it.
const session = useSession()
const plan = usePlan()
const segment = useSegment()
const work = useWork()
const dialog = useDialog()
const emit = defineEmits<{ show: [tag: string]; attempt: [what: () => Promise<unknown>] }>()
const search = ref('')
const kinds = ref<string[]>([])
const group = useStorage('redstart-found-group', '')
const selected = ref<string[]>([])
const opened = ref('')
const finding = ref(false)
const surveys = ref(false)
const handing = ref(false)
const adopting = ref(false)
const narrow = useMediaQuery('(max-width: 900px)')

const kindOptions = computed(() =>
  [...new Set(segment.devices.flatMap((d) => [d.kind || 'unknown', stateOf(d)]))]
    .sort()
    .map((v) => ({ label: v, value: v })),
)
const devices = computed(() => {
  const has = searched(search.value)
  return segment.devices.filter(
    (d) =>
      (!kinds.value.length || kinds.value.includes(d.kind || 'unknown') || kinds.value.includes(stateOf(d))) &&
      has([d.mac, placeOf(d), modelOf(d), d.tag, stateOf(d), ...(d.facts ?? []).map((f) => f.value)].join(' ')),
  )
})
const groups: Record<string, (d: Device) => string> = {
  kind: (d) => d.kind || 'unknown',
  state: stateOf,
  profile: modelOf,
}
const rows = computed<Row[]>(() => {
  const list = devices.value.map<Row>((d) => {
    const parts = partsOf(d)
    return {
      id: d.mac,
      device: d,
      ...(parts.length ? { children: parts.map((part) => ({ id: `${d.mac} ${part}`, device: d, part })) } : {}),
    }
  })
  const of = groups[group.value]
  if (!of) return list
  const by = new Map<string, Row[]>()
  for (const r of list) by.set(of(r.device!), [...(by.get(of(r.device!)) ?? []), r])
  return [...by]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([name, children]) => ({ id: 'group ' + name, group: name, children }))
})
const expanded = computed(() => rows.value.flatMap((r) => [r.id, ...(r.children ?? []).map((c) => c.id)]))
const chosen = computed(() => devices.value.filter((d) => selected.value.includes(d.mac)))
const blinking = computed(() => chosen.value.filter((d) => d.blinks))
const loose = computed(() => chosen.value.filter((d) => !d.tag))
const waiting = computed(() => segment.devices.filter((d) => d.here && d.waits))

const blink = (list: Device[]) =>
  emit('attempt', () =>
    Promise.all(list.map((d) => siteCall('post', '/devices/{mac}/blink', { path: { mac: d.mac } }))),
  )
function forget(list: Device[]) {
  const names = list
    .slice(0, 5)
    .map((d) => `${d.mac} (${modelOf(d)})`)
    .join(', ')
  dialog.warning({
    title: `Forget ${plural(list.length, 'device')}?`,
    content: `${names}${list.length > 5 ? ` and ${list.length - 5} more` : ''}. What they told so far is deleted. What is still on the segment is found again by the next survey.`,
    positiveText: 'Forget',
    negativeText: 'Keep',
    positiveButtonProps: { 'data-test': 'forget-sure' } as object,
    onPositiveClick: () =>
      emit('attempt', async () => {
        await siteCall('post', '/devices/forget', { body: { macs: list.map((d) => d.mac) } })
        selected.value = []
        await plan.settle()
      }),
  })
}
const watch = (on: boolean) => emit('attempt', () => siteCall('put', '/watch', { body: { on } }))
function page(d: Device) {
  // The tab is opened at once: browsers allow it only right after a click.
  const tab = window.open('', '_blank')
  if (tab) tab.opener = null // what a box shows there never reaches this tab
  emit('attempt', async () => {
    try {
      const { url } = await siteCall('post', '/devices/{mac}/page', { path: { mac: d.mac } })
      if (tab) tab.location.href = url
      else location.href = url
    } catch (e) {
      tab?.close()
      throw e
    }
  })
}

const { columns, columnOptions, toggleColumn } = useFoundColumns({
  narrow,
  open: (mac) => (opened.value = mac),
  show: (tag) => emit('show', tag),
})
const formats = ['csv', 'xlsx', 'json'].map((f) => ({ key: f, label: 'As ' + f.toUpperCase() }))
const save = (format: string) => {
  location.href = siteURL('found?format=' + format)
}
const width = computed(() => columns.value.reduce((n, c) => n + Number((c as { width?: number }).width ?? 0), 0))
</script>

<template>
  <div class="wrap">
    <div class="tools">
      <NInput
        v-model:value="search"
        clearable
        size="small"
        placeholder="Search MAC, address, serial, name"
        class="search"
        :input-props="{ 'aria-label': 'Search devices' }" />
      <Choice
        name="Any kind or state"
        v-model:value="kinds"
        multiple
        clearable
        size="small"
        :options="kindOptions"
        placeholder="Any kind or state"
        max-tag-count="responsive"
        class="filter" />
      <Choice
        v-if="!narrow"
        v-model:value="group"
        size="small"
        class="group"
        data-test="found-group"
        name="Group by"
        :options="[
          { label: 'Not grouped', value: '' },
          ...Object.keys(groups).map((v) => ({ label: 'By ' + v, value: v })),
        ]" />
      <NDropdown v-if="!narrow" trigger="click" :options="columnOptions" @select="toggleColumn"
        ><NButton size="small" data-test="found-columns">Columns</NButton></NDropdown
      >
      <template v-if="selected.length">
        <strong>{{ plural(selected.length, 'device') }} selected</strong>
        <NButton size="small" :disabled="!blinking.length || segment.lookOnly" @click="blink(blinking)"
          >Blink {{ blinking.length }}</NButton
        >
        <NButton size="small" :disabled="!loose.length || !session.mayPlan" data-test="adopt" @click="adopting = true"
          >Adopt {{ loose.length }}</NButton
        >
        <NButton size="small" :disabled="!loose.length" data-test="forget" @click="forget(loose)"
          >Forget {{ loose.length }}</NButton
        >
      </template>
      <template v-else>
        <span class="faint">{{
          devices.length === segment.devices.length
            ? plural(devices.length, 'device')
            : `${devices.length} of ${segment.devices.length} shown`
        }}</span>
        <span class="grow" />
        <NButton
          v-if="session.mayCommission"
          size="small"
          data-test="find-options"
          :disabled="work.finding"
          @click="finding = true"
          >Find …</NButton
        >
        <label class="switch"
          ><NSwitch
            aria-label="Watch who comes and goes"
            :value="segment.watched"
            size="small"
            :disabled="!segment.name || !session.mayCommission"
            data-test="watch"
            @update:value="watch" />
          Watch</label
        >
        <NButton
          v-if="waiting.length && session.mayCommission"
          size="small"
          data-test="hand-out"
          @click="handing = true"
          >{{ waiting.length }} wait for DHCP</NButton
        >
        <NButton size="small" data-test="surveys" @click="surveys = true">Surveys</NButton>
        <NDropdown trigger="click" :options="formats" @select="save"
          ><NButton size="small" data-test="found-export">Export</NButton></NDropdown
        >
      </template>
    </div>
    <div v-if="!segment.devices.length" class="empty faint">
      {{
        work.finding
          ? 'Asking the segment who is there.'
          : 'Nothing was found yet. Plug the devices in, then press Find.'
      }}
    </div>
    <SelectTable
      v-else
      v-model:chosen="selected"
      :narrow="narrow"
      :height="560"
      :columns="columns"
      :data="rows"
      :row-key="(r: Row) => r.id"
      :opened="expanded"
      :wide="width"
      :row-class="(r: Row) => (r.device && !r.device.here ? 'away' : '')"
      class="table"
      data-test="found" />
    <DeviceDrawer v-model:mac="opened" @attempt="emit('attempt', $event)" @show="emit('show', $event)" @page="page" />
    <FindDialog v-model:show="finding" />
    <SurveysDialog v-model:show="surveys" />
    <HandOutDialog v-model:show="handing" />
    <AdoptDialog v-model:show="adopting" :macs="loose.map((d) => d.mac)" @done="selected = []" />
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
  width: 220px;
}
.filter {
  width: 170px;
}
.group {
  width: 130px;
}
.switch {
  display: flex;
  gap: 6px;
  align-items: center;
  white-space: nowrap;
}
.table {
  flex: 1;
  min-height: 160px;
}
.table :deep(.away td) {
  color: var(--faint);
}
.empty {
  text-align: center;
  padding: 48px 0;
}
@media (max-width: 900px) {
  .search,
  .filter {
    width: 100%;
  }
}
</style>
