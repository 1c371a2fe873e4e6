// The columns of what was found; which of them are shown is kept in the browser.

import { useStorage } from '@vueuse/core'
import type { DataTableColumns } from 'naive-ui'
import type { Ref } from 'vue'
import { computed, h } from 'vue'
import type { Device } from '../api'
import { heardBy, latest, modelOf, placeOf, stateOf } from '../device'
import { clock } from '../format'

/** A device, a part that hangs behind one, or a group of devices. */
export interface Row {
  id: string
  device?: Device
  part?: string
  group?: string
  children?: Row[]
}

export function useFoundColumns(o: { narrow: Ref<boolean>; open: (mac: string) => void; show: (tag: string) => void }) {
  const hidden = useStorage<string[]>('redstart-found-hidden', ['heard', 'firmware'])
  const text = (f: (d: Device) => string) => (a: Row, b: Row) =>
    a.device && b.device ? f(a.device).localeCompare(f(b.device), 'en', { numeric: true }) : 0
  const mono = (s: string) => h('span', { class: 'mono' }, s || '–')
  const of = (key: string) => (r: Row) => (r.device ? latest(r.device, key, r.part) : '')
  const openLink = (d: Device) => h('button', { class: 'link mono', onClick: () => o.open(d.mac) }, d.mac)
  const optional: DataTableColumns<Row> = [
    {
      title: 'Address',
      key: 'present',
      width: 135,
      sorter: text(placeOf),
      render: (r) => (r.group || r.part ? '' : mono(placeOf(r.device!))),
    },
    {
      title: 'Profile',
      key: 'profile',
      width: 175,
      sorter: text(modelOf),
      render: (r) =>
        r.group
          ? ''
          : r.part
            ? of('model')(r)
            : [modelOf(r.device!), r.device!.profile ? h('span', { class: 'faint' }, ` ${r.device!.sure} %`) : ''],
    },
    {
      title: 'State',
      key: 'state',
      width: 105,
      sorter: text(stateOf),
      render: (r) => (r.group || r.part ? '' : h('span', { title: r.device!.stateWhy }, stateOf(r.device!))),
    },
    {
      title: 'Serial',
      key: 'serial',
      width: 120,
      sorter: text((d) => latest(d, 'serial')),
      render: (r) => (r.group ? '' : mono(of('serial')(r))),
    },
    {
      title: 'Name',
      key: 'name',
      width: 135,
      sorter: text((d) => latest(d, 'name')),
      render: (r) => (r.group ? '' : of('name')(r) || '–'),
    },
    {
      title: 'Firmware',
      key: 'firmware',
      width: 110,
      sorter: text((d) => latest(d, 'firmware')),
      render: (r) => (r.group ? '' : of('firmware')(r) || '–'),
    },
    { title: 'Heard by', key: 'heard', width: 150, render: (r) => (r.group || r.part ? '' : heardBy(r.device!)) },
    {
      title: 'Last',
      key: 'last',
      width: 85,
      sorter: text((d) => d.last),
      render: (r) => (r.group || r.part ? '' : clock(r.device!.last)),
    },
  ]
  const columnOptions = computed(() =>
    optional.map((c) => ({
      key: String((c as { key: string }).key),
      label: (hidden.value.includes((c as { key: string }).key) ? '   ' : '✓ ') + (c as { title: string }).title,
    })),
  )
  const toggleColumn = (key: string) =>
    (hidden.value = hidden.value.includes(key) ? hidden.value.filter((k) => k !== key) : [...hidden.value, key])
  const columns = computed<DataTableColumns<Row>>(() => {
    const entry = {
      title: 'Entry',
      key: 'tag',
      width: 145,
      sorter: text((d) => d.tag),
      render: (r: Row) => {
        const tag = r.group ? '' : r.part ? r.device!.partTags?.[r.part] : r.device!.tag
        return r.group ? '' : tag ? h('button', { class: 'link', onClick: () => o.show(tag) }, tag) : '–'
      },
    }
    const first = {
      title: o.narrow.value ? 'Device' : 'MAC',
      key: 'mac',
      width: o.narrow.value ? undefined : 185,
      sorter: text((d) => d.mac),
      render: (r: Row) =>
        r.group
          ? h('strong', `${r.group} (${r.children!.length})`)
          : r.part
            ? mono(r.part)
            : o.narrow.value
              ? [openLink(r.device!), h('div', { class: 'faint' }, `${placeOf(r.device!)}, ${modelOf(r.device!)}`)]
              : openLink(r.device!),
    }
    if (o.narrow.value) return [first, { ...entry, width: 130 }]
    return [
      { type: 'selection', width: 40, disabled: (r) => !r.device || !!r.part },
      first,
      ...optional.filter((c) => !hidden.value.includes((c as { key: string }).key)),
      entry,
    ]
  })
  return { columns, columnOptions, toggleColumn }
}
