// The columns of the lists on the page Match.

import { NButton } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import type { Ref } from 'vue'
import { computed, h } from 'vue'
import type { Device, Entry, Proposal } from '../api'
import { latest, modelOf, placeOf } from '../device'

/** Why a box is taken for an entry's, in words. */
export const names: Record<string, string> = {
  mac: 'MAC',
  serial: 'serial',
  label: 'label',
  port: 'switch port',
  name: 'name',
  address: 'address',
  order: 'order',
  arrival: 'arrival',
  hand: 'hand',
}
export const by = (r: string) => 'by ' + (names[r] ?? r)

export function useMatchLists(o: {
  narrow: Ref<boolean>
  mayLock: () => boolean
  show: (tag: string) => void
  lock: (e: Entry) => void
}) {
  const proposed = computed<DataTableColumns<Proposal>>(() =>
    o.narrow.value
      ? [
          { type: 'selection', width: 36 },
          {
            title: 'Proposed',
            key: 'tag',
            render: (p) => [
              h('strong', p.tag),
              h('span', { class: 'mono' }, ' ' + p.mac),
              h('div', `${by(p.by)}, ${p.sure} %: ${p.why}`),
            ],
          },
        ]
      : [
          { type: 'selection', width: 40 },
          { title: 'Entry', key: 'tag', width: 150, sorter: 'default' },
          {
            title: 'Box',
            key: 'mac',
            width: 155,
            sorter: 'default',
            render: (p) => h('span', { class: 'mono' }, p.mac),
          },
          { title: 'Serial', key: 'serial', width: 120, render: (p) => p.serial || '–' },
          {
            title: 'Reason',
            key: 'by',
            width: 135,
            sorter: 'default',
            render: (p) => by(p.by) + (p.part ? ', in part' : ''),
          },
          { title: 'Sure', key: 'sure', width: 75, sorter: 'default', render: (p) => `${p.sure} %` },
          { title: 'Why', key: 'why', className: 'wrap' },
        ],
  )
  const matched = computed<DataTableColumns<Entry>>(() => [
    { type: 'selection', width: 40, disabled: (e) => e.state !== 'matched' || !!e.locked },
    {
      title: 'Entry',
      key: 'tag',
      width: 150,
      sorter: 'default',
      render: (e) => h('button', { class: 'link', onClick: () => o.show(e.tag) }, e.tag),
    },
    { title: 'Box', key: 'device', width: 155, render: (e) => h('span', { class: 'mono' }, e.device) },
    ...(o.narrow.value
      ? []
      : [
          {
            title: 'Reason',
            key: 'matchedBy',
            width: 120,
            sorter: 'default' as const,
            render: (e: Entry) => by(e.matchedBy),
          },
          { title: 'Why', key: 'matchedWhy', className: 'wrap' },
          { title: 'State', key: 'state', width: 110 },
        ]),
    {
      title: '',
      key: 'lock',
      width: 90,
      render: (e) =>
        o.mayLock()
          ? h(NButton, { size: 'tiny', onClick: () => o.lock(e) }, () => (e.locked ? 'Unlock' : 'Lock'))
          : null,
    },
  ])
  const spare = computed<DataTableColumns<Device>>(() => [
    { type: 'selection', width: 40, disabled: (d) => !d.profile },
    { title: 'Box', key: 'mac', width: 155, render: (d) => h('span', { class: 'mono' }, d.mac) },
    { title: 'Where', key: 'present', width: 140, render: placeOf },
    { title: 'What', key: 'profile', render: (d) => `${modelOf(d)} ${latest(d, 'name')}` },
  ])
  return { proposed, matched, spare }
}
