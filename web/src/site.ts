// Everything the console shows, kept live by the service's events.

import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { call, onSignedOut, Problem } from './api'
import type { Activity, Device, Entry, PlanFinding, Proposals, Run, RunDevice, Segment, SegmentFinding, Site } from './api'

const idle: Activity = { kind: '', state: '', done: 0, total: 0, failed: 0, seconds: 0, text: '' }

export const useSite = defineStore('site', () => {
  const user = ref<string | null>() // undefined: not known yet; null: signed out
  const live = ref(false)
  const site = ref<Site | null>(null)
  const entries = shallowRef<Entry[]>([])
  const devices = shallowRef<Device[]>([])
  const segment = ref('')
  const segmentFindings = ref<SegmentFinding[]>([])
  const planFindings = ref<PlanFinding[]>([])
  const activity = ref<Activity>(idle)
  const proposals = ref<Proposals>({ proposals: [], open: [] })
  const run = ref<Run | null>(null)
  const steps = shallowRef<Record<string, RunDevice>>({})
  const revision = ref(0) // counts what may have changed an entry's details
  let source: EventSource | null = null

  const busy = computed(() => activity.value.state === 'running')
  const interrupted = computed(() => (run.value?.state === 'interrupted' && !busy.value ? run.value : null))
  const counts = computed(() => {
    const n: Record<string, number> = {}
    for (const e of entries.value) n[e.state] = (n[e.state] ?? 0) + 1
    return n
  })

  async function loadPlan() {
    const [e, f, p] = await Promise.all([
      call<Entry[]>('GET', 'entries'),
      call<PlanFinding[]>('GET', 'findings'),
      call<Proposals>('GET', 'matches'),
    ])
    entries.value = e
    planFindings.value = f
    proposals.value = p
    revision.value++
  }

  async function loadSegment() {
    const s = await call<Segment>('GET', 'devices')
    segment.value = s.name
    devices.value = s.devices
    segmentFindings.value = s.findings
  }

  async function loadRun() {
    run.value = await call<Run>('GET', 'runs/latest').catch((p: Problem) => {
      if (p.status === 404) return null
      throw p
    })
    steps.value = Object.fromEntries((run.value?.devices ?? []).map((d) => [d.tag, d]))
  }

  async function loadAll() {
    site.value = await call<Site>('GET', 'site')
    activity.value = await call<Activity>('GET', 'activity')
    await Promise.all([loadPlan(), loadSegment(), loadRun()])
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

  function listen() {
    source?.close()
    source = new EventSource('/api/events')
    const on = <T>(kind: string, f: (data: T) => void) =>
      source!.addEventListener(kind, (e) => f(JSON.parse((e as MessageEvent).data)))
    on('hello', () => {
      live.value = true
      void loadAll().catch(() => {})
    })
    on<Site>('site', (s) => (site.value = s))
    on('plan', soon)
    on<Entry>('entry', (e) => {
      changedEntries.set(e.tag, e)
      draw()
    })
    on<Device>('device', (d) => {
      changedDevices.set(d.mac, d)
      draw()
    })
    on<RunDevice>('run', (d) => {
      changedSteps.set(d.tag, d)
      draw()
    })
    on<Activity>('activity', (a) => {
      const began = a.state === 'running' && !busy.value
      activity.value = a
      if (a.state !== 'running') soon()
      if (a.kind === 'commission' && (began || a.state !== 'running')) void loadRun().catch(() => {})
    })
    source.onerror = () => {
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
      if (once) await call('POST', 'session', { link: once })
      user.value = (await call<{ user: string }>('GET', 'session')).user
      listen()
    } catch (e) {
      if (e instanceof Problem && e.status === 0 && user.value) return void setTimeout(() => void start(), 2000)
      user.value = null
      if (e instanceof Problem && !e.detail.startsWith('you are not')) throw e
    }
  }

  async function signIn(name: string, password: string) {
    await call('POST', 'session', { user: name, password })
    await start()
  }

  async function signOut() {
    await call('DELETE', 'session')
    forget()
  }

  function forget() {
    source?.close()
    user.value = null
  }
  onSignedOut(forget)

  return {
    user, live, site, entries, devices, segment, segmentFindings, planFindings, activity, proposals, run, steps, revision,
    busy, interrupted, counts, takeLink, start, signIn, signOut, loadPlan, loadAll,
  }
})
