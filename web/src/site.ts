// Everything the console shows, kept live by the service's events.

import { useStorage } from '@vueuse/core'
import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { about, call, onSignedOut, Problem, siteCall } from './api'
import type {
  Bodies,
  Changes,
  Device,
  Entry,
  PlanFinding,
  Presence,
  Profile,
  Proposals,
  Run,
  RunDevice,
  SegmentFinding,
  Site,
  Work,
} from './api'

/** The kind of problem that tells that nobody is signed in. */
const notSignedIn = 'urn:redstart:problem:sign-in'

/** How long what was done may take to be told, in milliseconds. */
const mostSettling = 700

/** How many works that ended stay in sight. */
const mostEnded = 28

export const useSite = defineStore('site', () => {
  const user = ref<string | null>() // undefined: not known yet; null: signed out
  const rights = ref('look')
  const live = ref(false)
  const ready = ref(false) // everything of the open site was read once: before that the page would jump
  const sites = ref<Site[]>([])
  const key = useStorage('redstart-site', '') // of the site that is open
  const profiles = shallowRef<Profile[]>([])
  const locked = ref(false) // the vault
  const site = ref<Site | null>(null)
  const entries = shallowRef<Entry[]>([])
  const devices = shallowRef<Device[]>([])
  const segment = ref('')
  const segmentFindings = shallowRef<SegmentFinding[]>([])
  const planFindings = shallowRef<PlanFinding[]>([])
  const works = ref<Work[]>([]) // under way, and ended lately; latest first
  const proposals = shallowRef<Proposals>({ proposals: [], open: [], missing: [], spare: [] })
  const watched = ref(false)
  const surveyed = ref(false)
  const lookOnly = ref(false)
  const dark = ref(false) // the segment has no link
  const arrivals = shallowRef<Presence[]>([]) // who came lately, latest first
  const runs = shallowRef<Run[]>([]) // that have not ended
  const handovers = shallowRef<Bodies['Handover'][]>([])
  const lookout = shallowRef<Bodies['LookoutView']>()
  const steps = shallowRef<Record<string, RunDevice>>({})
  const revision = ref(0) // counts what may have changed an entry's details
  let source: EventSource | null = null

  const mayPlan = computed(() => ['plan', 'commission', 'own'].includes(rights.value))
  const mayCommission = computed(() => ['commission', 'own'].includes(rights.value))
  const byId = computed(() => new Map(profiles.value.map((p) => [p.id, p])))
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
    entries.value
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
  const counts = computed(() => {
    const n: Record<string, number> = {}
    for (const e of entries.value) n[e.state] = (n[e.state] ?? 0) + 1
    return n
  })

  // An older answer that comes after a newer one is not taken in.
  let asked = 0
  let taken = 0
  async function loadPlan() {
    const mine = ++asked
    // The entries alone: they are what a page of a large plan waits for.
    const e = await siteCall('get', '/entries')
    if (mine < taken) return
    taken = mine
    entries.value = e
    revision.value++
    void siteCall('get', '/findings')
      .then((f) => mine === taken && (planFindings.value = f))
      .catch(() => {})
    void loadProposals().catch(() => {})
  }

  // What is proposed is asked for by pages that show it, and once for the others' count.
  let proposing = 0
  async function loadProposals() {
    const mine = ++proposing
    const p = await siteCall('get', '/matches')
    if (mine === proposing) proposals.value = p
  }

  /** Takes in what is not as it was: only that was sent. */
  function takeIn(c: Changes) {
    if (c.entries || c.order || c.empty) {
      const all = new Map(entries.value.map((e) => [e.tag, e]))
      for (const e of c.entries ?? []) {
        all.set(e.tag, e)
        changedEntries.delete(e.tag) // it is of before
      }
      const order = c.empty ? [] : c.order
      entries.value = (order ?? entries.value.map((e) => e.tag)).flatMap((tag) => all.get(tag) ?? [])
      taken = ++asked // what is asked for is older
    }
    if (c.devices || c.gone) {
      for (const d of c.devices ?? []) changedDevices.set(d.mac, d)
      const gone = new Set(c.gone)
      if (gone.size) devices.value = devices.value.filter((d) => !gone.has(d.mac))
      draw()
    }
    if (c.findings) {
      const by = new Map<string, PlanFinding[]>()
      for (const f of planFindings.value) by.set(f.tag ?? '', [...(by.get(f.tag ?? '') ?? []), f])
      for (const [tag, list] of Object.entries(c.findings)) by.set(tag, list)
      // Those of the site come first, then those of entries in their order.
      const tags = new Set(['', ...entries.value.map((e) => e.tag), ...by.keys()])
      planFindings.value = [...tags].flatMap((tag) => by.get(tag) ?? [])
    }
    if (c.segment) segmentFindings.value = c.segment
    revision.value++
    for (const done of settling.splice(0)) done()
    if (c.matches) {
      clearTimeout(proposed)
      proposed = setTimeout(() => void loadProposals().catch(() => {}), 300)
    }
  }
  let proposed: ReturnType<typeof setTimeout> | undefined

  /** Waits until what somebody did here is told; where nothing is told, it asks. */
  async function settle() {
    if (!live.value) return loadPlan()
    await new Promise<void>((done) => {
      const over = setTimeout(done, mostSettling)
      settling.push(() => {
        clearTimeout(over)
        done()
      })
    })
  }
  const settling: (() => void)[] = []

  async function loadSegment() {
    const s = await siteCall('get', '/devices')
    segment.value = s.name
    watched.value = s.watched
    surveyed.value = s.surveyed
    lookOnly.value = s.lookOnly
    dark.value = s.dark
    devices.value = s.devices
    segmentFindings.value = s.findings
    arrivals.value = s.arrivals
  }

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

  // What was handed over, and what is not as it was since.
  async function loadHandovers() {
    const [h, l] = await Promise.all([siteCall('get', '/handovers'), siteCall('get', '/lookout')])
    handovers.value = h
    lookout.value = l
  }

  async function loadSites() {
    sites.value = await call('get', '/sites', { query: { brief: true } }) // how far each is takes long to count
    if (!sites.value.some((s) => s.key === key.value)) key.value = sites.value[0]?.key ?? ''
    about(key.value)
  }

  async function loadAll(): Promise<void> {
    const open = key.value
    const rest = Promise.all([
      call('get', '/profiles').then((p) => (profiles.value = p)),
      call('get', '/works').then((w) => (works.value = w)),
      call('get', '/vault').then((v) => (locked.value = v.locked)),
      ...(open
        ? [siteCall('get', '').then((s) => (site.value = s)), loadPlan(), loadSegment(), loadRuns(), loadHandovers()]
        : []),
    ])
    rest.catch(() => {}) // it is awaited below, unless another site is open by then
    await loadSites()
    if (key.value !== open) return loadAll()
    if (!open) {
      site.value = null
      entries.value = []
    }
    await rest
  }

  /** Opens another site. */
  function open(other: string) {
    key.value = other
    ready.value = false
    about(other)
    // Nothing of the site before may land in this one.
    clearTimeout(timer)
    for (const waiting of [changedEntries, changedDevices, changedSteps]) waiting.clear()
    site.value = null
    entries.value = []
    devices.value = []
    runs.value = []
    handovers.value = []
    lookout.value = undefined
    steps.value = {}
    listen()
  }

  // Many events in a row lead to one reload.
  let timer: ReturnType<typeof setTimeout> | undefined
  function soon() {
    clearTimeout(timer)
    timer = setTimeout(() => void Promise.all([loadPlan(), loadSegment()]).catch(() => {}), 150)
  }

  // Rows that changed within one frame are put in together: thousands of
  // devices must not redraw a table each.
  const changedEntries = new Map<string, Entry>()
  const changedDevices = new Map<string, Device>()
  const changedSteps = new Map<string, RunDevice>()
  let frame = 0
  function draw() {
    if (!frame) frame = requestAnimationFrame(flush)
  }
  function flush() {
    frame = 0
    if (changedEntries.size) {
      entries.value = entries.value.map((e) => changedEntries.get(e.tag) ?? e)
      changedEntries.clear()
      revision.value++
    }
    if (changedDevices.size) {
      const rest = devices.value.filter((d) => !changedDevices.has(d.mac))
      devices.value = [...rest, ...changedDevices.values()].sort((a, b) => (a.mac < b.mac ? -1 : 1))
      changedDevices.clear()
    }
    if (changedSteps.size) {
      steps.value = { ...steps.value, ...Object.fromEntries(changedSteps) }
      changedSteps.clear()
    }
  }

  // The last event that was taken in, and of which site.
  let had = ''
  let hadOf: string | undefined
  function listen() {
    source?.close()
    const asks = new URLSearchParams()
    if (key.value) asks.set('site', key.value)
    if (had && hadOf === key.value) asks.set('after', had)
    const mine = new EventSource(`/api/events?${asks}`)
    source = mine
    const on = <T>(kind: string, f: (data: T) => void) =>
      mine.addEventListener(kind, (e) => {
        if (source !== mine) return
        f(JSON.parse((e as MessageEvent).data))
        had = (e as MessageEvent).lastEventId
      })
    on<{ resumed: boolean }>('hello', ({ resumed }) => {
      live.value = true
      // After a break everything that was missed comes by itself, if it is still known.
      if (resumed && ready.value && hadOf === key.value) return
      hadOf = key.value
      void loadAll()
        .catch(() => {})
        .finally(() => (ready.value = true))
    })
    on('sites', () => void loadAll().catch(() => {}))
    on<{ locked: boolean }>('vault', (v) => (locked.value = v.locked))
    on<Site>('site', (s) => {
      site.value = s
    })
    on('plan', soon)
    on<Changes>('changes', takeIn)
    on<Entry>('entry', (e) => {
      changedEntries.set(e.tag, e)
      draw()
    })
    on<Device>('device', (d) => {
      changedDevices.set(d.mac, d)
      draw()
    })
    on<{ on: boolean }>('watch', (w) => (watched.value = w.on))
    for (const kind of ['handover', 'lookout']) on(kind, () => void loadHandovers().catch(() => {}))
    on('segment', () => void loadSegment().catch(() => {}))
    on<Presence>('presence', (p) => {
      if (p.kind === 'arrived' || p.kind === 'returned')
        arrivals.value = [p, ...arrivals.value.filter((a) => a.device.mac !== p.device.mac)].slice(0, 20)
    })
    on<RunDevice>('run', (d) => {
      changedSteps.set(d.tag, d)
      told.set(d.tag, d)
      draw()
    })
    on<Work>('work', (w) => {
      const began = !works.value.some((o) => o.id === w.id)
      works.value = began ? [w, ...works.value].slice(0, mostEnded) : works.value.map((o) => (o.id === w.id ? w : o))
      if (w.kind === 'commission' && w.site === key.value && (began || w.state !== 'running'))
        void loadRuns().catch(() => {})
    })
    mine.onerror = () => {
      if (source !== mine) return
      live.value = false
      // The browser tries again by itself, unless the answer was a refusal.
      if (source?.readyState === EventSource.CLOSED) setTimeout(() => void start(), 2000)
    }
  }

  let link = ''
  function takeLink() {
    link = /^#once=(.+)$/.exec(location.hash)?.[1] ?? ''
    if (link) history.replaceState(null, '', location.pathname)
  }

  async function start() {
    try {
      const once = link
      link = ''
      if (once) await call('post', '/session', { body: { link: once } })
      const who = await call('get', '/session')
      user.value = who.user
      rights.value = who.rights
      await loadSites()
      listen()
    } catch (e) {
      if (e instanceof Problem && e.status === 0 && user.value) return void setTimeout(() => void start(), 2000)
      user.value = null
      if (e instanceof Problem && e.type !== notSignedIn) throw e
    }
  }

  async function signIn(name: string, password: string) {
    await call('post', '/session', { body: { user: name, password } })
    await start()
  }

  async function signOut() {
    await call('delete', '/session')
    forget()
  }

  // Browsers open six connections to one host, and keep pages alive that were
  // left: a page that nobody sees lets go of its own, and reads all again later.
  function rest() {
    source?.close()
    source = null
    live.value = false
  }
  function wake() {
    clearTimeout(unseen)
    if (!source && user.value) listen()
  }
  let unseen: ReturnType<typeof setTimeout> | undefined
  addEventListener('pagehide', rest)
  addEventListener('pageshow', wake)
  document.addEventListener('visibilitychange', () => {
    if (document.hidden) unseen = setTimeout(rest, 30_000)
    else wake()
  })

  function forget() {
    rest()
    user.value = null
  }
  onSignedOut(forget)

  return {
    user,
    live,
    ready,
    site,
    entries,
    devices,
    segment,
    segmentFindings,
    planFindings,
    works,
    underWay,
    proposals,
    watched,
    surveyed,
    lookOnly,
    dark,
    arrivals,
    runs,
    handovers,
    lookout,
    stepOf,
    hands,
    steps,
    revision,
    rights,
    sites,
    key,
    profiles,
    locked,
    mayPlan,
    mayCommission,
    byId,
    open,
    loadSites,
    busy,
    finding,
    interrupted,
    counts,
    takeLink,
    start,
    signIn,
    signOut,
    settle,
  }
})
