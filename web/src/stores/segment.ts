import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'
import type { Changes, Device, Presence, SegmentFinding, Work } from '../api'
import { isOpen, siteCall } from '../api'
import { calmly, on } from '../events'

/** How many that came lately stay in sight. */
const mostArrivals = 20

/** The segment that the open site uses, and what was found there. */
export const useSegment = defineStore('segment', () => {
  const name = ref('')
  const devices = shallowRef<Device[]>([])
  const findings = shallowRef<SegmentFinding[]>([])
  const read = ref(false)
  const watched = ref(false)
  const surveyed = ref(false)
  const lookOnly = ref(false)
  const dark = ref(false) // it has no link
  const arrivals = shallowRef<Presence[]>([]) // who came lately, latest first

  async function load() {
    const s = await siteCall('get', '/devices')
    name.value = s.name
    watched.value = s.watched
    surveyed.value = s.surveyed
    lookOnly.value = s.lookOnly
    dark.value = s.dark
    devices.value = s.devices
    findings.value = s.findings
    arrivals.value = s.arrivals
    read.value = true
  }

  const changed = new Map<string, Device>()
  const draw = calmly(() => {
    if (!changed.size) return
    const rest = devices.value.filter((d) => !changed.has(d.mac))
    devices.value = [...rest, ...changed.values()].sort((a, b) => (a.mac < b.mac ? -1 : 1))
    changed.clear()
  })
  on<Device>('device', (d) => {
    changed.set(d.mac, d)
    draw()
  })
  on<Changes>('changes', (c) => {
    if (c.devices || c.gone) {
      for (const d of c.devices ?? []) changed.set(d.mac, d)
      const gone = new Set(c.gone)
      if (gone.size) devices.value = devices.value.filter((d) => !gone.has(d.mac))
      draw()
    }
    if (c.segment) findings.value = c.segment
  })
  on<{ on: boolean }>('watch', (w) => (watched.value = w.on))
  on<Work>('work', (w) => (surveyed.value ||= isOpen(w.site) && w.kind === 'find' && w.state === 'done'))
  on('segment', () => void load().catch(() => {}))
  on<Presence>('presence', (p) => {
    if (p.kind === 'arrived' || p.kind === 'returned')
      arrivals.value = [p, ...arrivals.value.filter((a) => a.device.mac !== p.device.mac)].slice(0, mostArrivals)
  })

  /** Another site is opened. */
  function clear() {
    changed.clear()
    devices.value = []
    read.value = false
  }

  return { name, read, devices, findings, watched, surveyed, lookOnly, dark, arrivals, load, clear }
})
