<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { NButton, NDataTable, NInput, NSelect } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { computed, h, ref } from 'vue'
import { siteCall } from '../api'
import type { Device } from '../api'
import { clock, plural, searched } from '../format'
import { useSite } from '../site'

const site = useSite()
const emit = defineEmits<{ show: [tag: string]; attempt: [what: () => Promise<unknown>] }>()
const search = ref('')
const profiles = ref<string[]>([])
const selected = ref<string[]>([])
const narrow = useMediaQuery('(max-width: 900px)')

const latest = (d: Device, key: string) =>
  (d.facts ?? []).filter((f) => f.key === key).sort((a, b) => (a.last < b.last ? 1 : -1))[0]?.value ?? ''
const heard = (d: Device) => [...new Set((d.facts ?? []).map((f) => f.protocol))].join(', ') || 'traffic'
const model = (d: Device) => d.profile ?? 'unknown'
const profileOptions = computed(() => [...new Set(site.devices.map(model))].sort().map((v) => ({ label: v, value: v })))
const rows = computed(() => {
  const has = searched(search.value)
  return site.devices.filter((d) => {
    if (profiles.value.length && !profiles.value.includes(model(d))) return false
    const text = [d.mac, d.present, model(d), d.tag, ...(d.facts ?? []).map((f) => f.value)].join(' ')
    return has(text)
  })
})
const text = (f: (d: Device) => string) => (a: Device, b: Device) => f(a).localeCompare(f(b), 'en', { numeric: true })
const mono = (s: string) => h('span', { class: 'mono' }, s || '–')
// Devices that were heard over DCP can be asked to blink.
const canBlink = (d: Device) => !!d.profile && (d.facts ?? []).some((f) => f.protocol === 'dcp')
const blinking = computed(() => rows.value.filter((d) => selected.value.includes(d.mac) && canBlink(d)))
function blink(list: Device[]) {
  emit('attempt', () => Promise.all(list.map((d) => siteCall('POST', `devices/${d.mac}/blink`))))
}
const columns = computed<DataTableColumns<Device>>(() => {
  const all: DataTableColumns<Device> = [
    { type: 'selection', width: 40 },
    { title: 'MAC', key: 'mac', width: 155, sorter: text((d) => d.mac), render: (d) => mono(d.mac) },
    { title: 'Address', key: 'present', width: 130, sorter: text((d) => d.present), render: (d) => mono(d.present) },
    { title: 'Profile', key: 'profile', width: 190, sorter: text(model), render: (d) => [model(d), d.profile ? h('span', { class: 'faint' }, ` ${d.sure} %`) : ''] },
    { title: 'Serial', key: 'serial', width: 120, sorter: text((d) => latest(d, 'serial')), render: (d) => mono(latest(d, 'serial')) },
    { title: 'Name', key: 'name', minWidth: 120, sorter: text((d) => latest(d, 'name')), render: (d) => latest(d, 'name') || '–' },
    { title: 'Heard by', key: 'heard', width: 105, render: heard },
    { title: 'Last', key: 'last', width: 95, sorter: text((d) => d.last), render: (d) => clock(d.last) },
    { title: 'Entry', key: 'tag', width: 145, sorter: text((d) => d.tag), render: (d) => (d.tag ? h('button', { class: 'link', onClick: () => emit('show', d.tag) }, d.tag) : '–') },
    { title: '', key: 'blink', width: 75, render: (d) => (canBlink(d) ? h(NButton, { size: 'tiny', onClick: () => blink([d]) }, () => 'Blink') : null) },
  ]
  if (!narrow.value) return all
  return [
    { title: 'Device', key: 'mac', sorter: text((d) => d.mac), render: (d) => [mono(d.mac), h('div', { class: 'faint' }, `${d.present || 'no address'}, ${model(d)}`)] },
    { title: 'Entry', key: 'tag', width: 150, sorter: text((d) => d.tag), render: (d) => (d.tag ? h('button', { class: 'link', onClick: () => emit('show', d.tag) }, d.tag) : '–') },
  ]
})
</script>

<template>
  <div class="wrap">
    <div class="tools">
      <NInput v-model:value="search" clearable size="small" placeholder="Search MAC, address, serial, name" class="search" :input-props="{ 'aria-label': 'Search devices' }" />
      <NSelect v-model:value="profiles" multiple clearable size="small" :options="profileOptions" placeholder="Any profile" max-tag-count="responsive" class="filter" />
      <template v-if="selected.length">
        <strong>{{ plural(selected.length, 'device') }} selected</strong>
        <NButton size="small" :disabled="!blinking.length" @click="blink(blinking)">Blink {{ blinking.length }}</NButton>
      </template>
      <span v-else class="faint">{{ rows.length === site.devices.length ? '' : `${rows.length} of ${site.devices.length} shown` }}</span>
    </div>
    <div v-if="!site.devices.length" class="empty faint">
      {{ site.busy ? 'Asking the segment who is there.' : 'Nothing was found yet. Plug the devices in, then press Find.' }}
    </div>
    <NDataTable v-else v-model:checked-row-keys="selected" :columns="columns" :data="rows" :row-key="(d: Device) => d.mac" size="small" :bordered="false" virtual-scroll
      :flex-height="!narrow" :max-height="narrow ? 560 : undefined" :scroll-x="narrow ? undefined : 1180" :min-row-height="31" class="table" />
  </div>
</template>

<style scoped>
.wrap { height: 100%; display: flex; flex-direction: column; gap: 8px; }
.search { width: 290px; }
.filter { width: 220px; }
.table { flex: 1; min-height: 160px; }
.empty { text-align: center; padding: 48px 0; }
@media (max-width: 900px) { .search, .filter { width: 100%; } }
</style>
