import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Changes, Entry, PlanFinding, Proposals } from '../api'
import { siteCall } from '../api'
import { calmly, live, on } from '../events'

/** How long what was done may take to be told, in milliseconds. */
const mostSettling = 700

const nothing: Proposals = { proposals: [], open: [], missing: [], spare: [] }

/** The open site's plan: its entries, what stands against it, and which box each may be. */
export const usePlan = defineStore('plan', () => {
  const entries = shallowRef<Entry[]>([])
  const findings = shallowRef<PlanFinding[]>([])
  const proposals = shallowRef<Proposals>(nothing)
  // Until they came nothing is said of them, least of all that there are none.
  const checked = ref(false)
  const proposed = ref(false)
  const revision = ref(0) // counts what may have changed an entry's details
  const counts = computed(() => {
    const n: Record<string, number> = {}
    for (const e of entries.value) n[e.state] = (n[e.state] ?? 0) + 1
    return n
  })

  // An older answer that comes after a newer one is not taken in.
  let asked = 0
  let taken = 0
  async function load() {
    const mine = ++asked
    // The entries alone: they are what a page of a large plan waits for.
    const e = await siteCall('get', '/entries')
    if (mine < taken) return
    taken = mine
    entries.value = e
    revision.value++
    void siteCall('get', '/findings')
      .then((f) => {
        if (mine !== taken) return
        findings.value = f
        checked.value = true
      })
      .catch(() => {})
    void loadProposals().catch(() => {})
  }

  // What is proposed is asked for by pages that show it, and once for the others' count.
  let proposing = 0
  async function loadProposals() {
    const mine = ++proposing
    const p = await siteCall('get', '/matches')
    if (mine !== proposing) return
    proposals.value = p
    proposed.value = true
  }

  const changed = new Map<string, Entry>()
  const draw = calmly(() => {
    if (!changed.size) return
    entries.value = entries.value.map((e) => changed.get(e.tag) ?? e)
    changed.clear()
    revision.value++
  })
  on<Entry>('entry', (e) => {
    changed.set(e.tag, e)
    draw()
  })

  let again: ReturnType<typeof setTimeout> | undefined
  /** Takes in what is not as it was: only that was sent. */
  on<Changes>('changes', (c) => {
    if (c.entries || c.order || c.empty) {
      const all = new Map(entries.value.map((e) => [e.tag, e]))
      for (const e of c.entries ?? []) {
        all.set(e.tag, e)
        changed.delete(e.tag) // it is of before
      }
      const order = c.empty ? [] : c.order
      entries.value = (order ?? entries.value.map((e) => e.tag)).flatMap((tag) => all.get(tag) ?? [])
      taken = ++asked // what is asked for is older
    }
    if (c.findings) {
      const by = new Map<string, PlanFinding[]>()
      for (const f of findings.value) by.set(f.tag ?? '', [...(by.get(f.tag ?? '') ?? []), f])
      for (const [tag, list] of Object.entries(c.findings)) by.set(tag, list)
      // Those of the site come first, then those of entries in their order.
      const tags = new Set(['', ...entries.value.map((e) => e.tag), ...by.keys()])
      findings.value = [...tags].flatMap((tag) => by.get(tag) ?? [])
    }
    revision.value++
    for (const done of settling.splice(0)) done()
    if (c.matches) {
      clearTimeout(again)
      again = setTimeout(() => void loadProposals().catch(() => {}), 300)
    }
  })

  /** Waits until what somebody did here is told; where nothing is told, it asks. */
  async function settle() {
    if (!live.value) return load()
    await new Promise<void>((done) => {
      const over = setTimeout(done, mostSettling)
      settling.push(() => {
        clearTimeout(over)
        done()
      })
    })
  }
  const settling: (() => void)[] = []

  /** Another site is opened: nothing of the one before may land in it. */
  function clear() {
    changed.clear()
    entries.value = []
    findings.value = []
    proposals.value = nothing
    checked.value = proposed.value = false
    proposing++ // what is under way is of the site before
    taken = ++asked
  }

  return { entries, findings, checked, proposals, proposed, revision, counts, load, settle, clear }
})
