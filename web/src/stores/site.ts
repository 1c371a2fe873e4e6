import { useStorage } from '@vueuse/core'
import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Profile, Site } from '../api'
import { about, call, siteCall } from '../api'
import { listen, on, readAgain } from '../events'
import { useHandover } from './handover'
import { usePlan } from './plan'
import { useSegment } from './segment'
import { useWork } from './work'

/** The site that is open, among all, and what the service knows for every site. */
export const useSite = defineStore('site', () => {
  const ofSite = [usePlan(), useSegment(), useWork(), useHandover()]
  const [plan, segment, work, handover] = ofSite as [
    ReturnType<typeof usePlan>,
    ReturnType<typeof useSegment>,
    ReturnType<typeof useWork>,
    ReturnType<typeof useHandover>,
  ]
  // What the open site's pages begin with was read once: before that they would jump. What the
  // segment holds is by far the most, and only its own pages wait for it.
  const ready = ref(false)
  const whole = ref(false) // so was the segment, or it cannot be read
  const sites = ref<Site[]>([])
  const key = useStorage('redstart-site', '') // of the site that is open
  const site = ref<Site | null>(null)
  const profiles = shallowRef<Profile[]>([])
  const byId = computed(() => new Map(profiles.value.map((p) => [p.id, p])))
  const locked = ref(false) // the vault

  async function loadSites() {
    sites.value = await call('get', '/sites', { query: { brief: true } }) // how far each is takes long to count
    if (!sites.value.some((s) => s.key === key.value)) key.value = sites.value[0]?.key ?? ''
    about(key.value)
  }

  async function loadAll(): Promise<void> {
    const open = key.value
    const rest = Promise.all([
      call('get', '/profiles').then((p) => (profiles.value = p)),
      work.load(),
      call('get', '/vault').then((v) => (locked.value = v.locked)),
      ...(open
        ? [siteCall('get', '').then((s) => (site.value = s)), plan.load(), work.loadRuns(), handover.load()]
        : []),
    ])
    const found = open ? segment.load() : undefined
    for (const read of [rest, found]) read?.catch(() => {}) // awaited below, unless another site is open by then
    await loadSites()
    if (key.value !== open) return loadAll()
    if (!open) {
      site.value = null
      plan.clear()
    }
    await rest
    ready.value = true
    await found
  }

  // Many events in a row lead to one reload.
  let timer: ReturnType<typeof setTimeout> | undefined
  on('plan', () => {
    clearTimeout(timer)
    timer = setTimeout(() => void Promise.all([plan.load(), segment.load()]).catch(() => {}), 150)
  })
  on('sites', () => void loadAll().catch(() => {}))
  on<Site>('site', (s) => (site.value = s))
  on<{ locked: boolean }>('vault', (v) => (locked.value = v.locked))

  let refused = () => {}
  /** Listens from now on to what becomes of the open site. */
  function follow(onRefusal = refused) {
    refused = onRefusal
    if (!ready.value) readAgain()
    listen(key.value, {
      began: () =>
        void loadAll()
          .catch(() => {})
          .finally(() => (ready.value = whole.value = true)),
      refused,
    })
  }

  /** Opens another site. */
  function open(other: string) {
    key.value = other
    ready.value = whole.value = false
    about(other)
    clearTimeout(timer)
    site.value = null
    for (const store of ofSite) store.clear()
    follow()
  }

  return { ready, whole, sites, key, site, profiles, byId, locked, loadSites, follow, open }
})
