import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Run, RunDevice, Work } from '../api'
import { call, isOpen, siteCall } from '../api'
import { calmly, on } from '../events'
import { usePlan } from './plan'

/** How many works that ended stay in sight. */
const mostEnded = 28

/** What is under way, in the service and on the open site's devices. */
export const useWork = defineStore('work', () => {
  const plan = usePlan()
  const works = ref<Work[]>([]) // under way, and ended lately; latest first
  const runs = shallowRef<Run[]>([]) // that have not ended
  const steps = shallowRef<Record<string, RunDevice>>({})

  const underWay = computed(() => works.value.filter((w) => w.state === 'running'))
  const busy = computed(() => underWay.value.length > 0)
  const finding = computed(() => underWay.value.some((w) => w.kind === 'find'))
  const interrupted = computed(() =>
    runs.value.filter((r) => r.state === 'interrupted' && !underWay.value.some((w) => w.run === r.id)),
  )
  /** What is happening to the device of an entry in a run that has not ended. */
  const stepOf = (tag: string): RunDevice | undefined => {
    const d = steps.value[tag]
    return d && runs.value.some((r) => r.id === d.run) ? d : undefined
  }
  /** Devices that wait for a person, in walking order. */
  const hands = computed(() =>
    plan.entries
      .flatMap((entry) => {
        const step = stepOf(entry.tag)
        return step?.state === 'parked' && step.hand ? [{ entry, step, hand: step.hand }] : []
      })
      .sort((a, b) =>
        [a.entry.area ?? '', a.entry.floor ?? '', a.entry.place, a.entry.tag]
          .join('\0')
          .localeCompare([b.entry.area ?? '', b.entry.floor ?? '', b.entry.place, b.entry.tag].join('\0'), 'en', {
            numeric: true,
          }),
      ),
  )

  const load = async () => void (works.value = await call('get', '/works'))

  // What devices told while the runs were asked for is newer than the answer.
  let told = new Map<string, RunDevice>()
  async function loadRuns() {
    const since = (told = new Map())
    const list = await siteCall('get', '/runs')
    if (since !== told) return // asked again meanwhile
    runs.value = list
    steps.value = {
      ...Object.fromEntries(list.flatMap((r) => r.devices.map((d) => [d.tag, d]))),
      ...Object.fromEntries(since),
    }
  }

  const changed = new Map<string, RunDevice>()
  const draw = calmly(() => {
    if (!changed.size) return
    steps.value = { ...steps.value, ...Object.fromEntries(changed) }
    changed.clear()
  })
  on<RunDevice>('run', (d) => {
    changed.set(d.tag, d)
    told.set(d.tag, d)
    draw()
  })
  on<Work>('work', (w) => {
    const began = !works.value.some((o) => o.id === w.id)
    works.value = began ? [w, ...works.value].slice(0, mostEnded) : works.value.map((o) => (o.id === w.id ? w : o))
    if (w.kind === 'commission' && isOpen(w.site) && (began || w.state !== 'running')) void loadRuns().catch(() => {})
  })

  /** Another site is opened. */
  function clear() {
    changed.clear()
    runs.value = []
    steps.value = {}
  }

  return { works, runs, steps, underWay, busy, finding, interrupted, stepOf, hands, load, loadRuns, clear }
})
