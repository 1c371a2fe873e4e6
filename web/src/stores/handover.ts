import { defineStore } from 'pinia'
import { shallowRef } from 'vue'
import type { Bodies } from '../api'
import { siteCall } from '../api'
import { on } from '../events'

/** What of the open site was handed over, and what is not as it was since. */
export const useHandover = defineStore('handover', () => {
  const handovers = shallowRef<Bodies['Handover'][]>([])
  const lookout = shallowRef<Bodies['LookoutView']>()

  async function load() {
    const [h, l] = await Promise.all([siteCall('get', '/handovers'), siteCall('get', '/lookout')])
    handovers.value = h
    lookout.value = l
  }
  for (const kind of ['handover', 'lookout']) on(kind, () => void load().catch(() => {}))

  /** Another site is opened. */
  function clear() {
    handovers.value = []
    lookout.value = undefined
  }

  return { handovers, lookout, load, clear }
})
