// What the service tells by itself, for the stores that keep it.

import { ref } from 'vue'

/** Whether the service is heard now. */
export const live = ref(false)

type Hearing = (data: never) => void
const hearings = new Map<string, Hearing[]>()

/** Has a store hear a kind of event. */
export function on<T>(kind: string, hear: (data: T) => void) {
  hearings.set(kind, [...(hearings.get(kind) ?? []), hear as Hearing])
}

interface Ears {
  /** All is to be read again; it is not where what was missed comes by itself. */
  began: () => void
  /** The service answered with a refusal. */
  refused: () => void
}

let source: EventSource | null = null
let site = ''
let ears: Ears | undefined
// The last event that was taken in, and of which site all was read.
let had = ''
let hadOf: string | undefined

/** Listens to the service, about a site if one is open. */
export function listen(to: string, by: Ears) {
  source?.close()
  site = to
  ears = by
  const asks = new URLSearchParams()
  if (site) asks.set('site', site)
  if (had && hadOf === site) asks.set('after', had)
  const mine = new EventSource(`/api/events?${asks}`)
  source = mine
  const take = <T>(kind: string, hear: (data: T) => void) =>
    mine.addEventListener(kind, (e) => {
      if (source !== mine) return
      hear(JSON.parse((e as MessageEvent).data))
      had = (e as MessageEvent).lastEventId
    })
  take<{ resumed: boolean }>('hello', ({ resumed }) => {
    live.value = true
    if (resumed && hadOf === site) return
    hadOf = site
    by.began()
  })
  for (const [kind, all] of hearings) for (const hear of all) take(kind, hear)
  mine.onerror = () => {
    if (source !== mine) return
    live.value = false
    // The browser tries again by itself, unless the answer was a refusal.
    if (source?.readyState === EventSource.CLOSED) setTimeout(by.refused, 2000)
  }
}

/** Nothing that was read counts any more: it may not have come whole. */
export function readAgain() {
  hadOf = undefined
}

/** Lets go of the connection. */
export function rest() {
  source?.close()
  source = null
  live.value = false
}

// Browsers open six connections to one host, and keep pages alive that were
// left: a page that nobody sees lets go of its own, and reads all again later.
let unseen: ReturnType<typeof setTimeout> | undefined
function wake() {
  clearTimeout(unseen)
  if (!source && ears) listen(site, ears)
}
addEventListener('pagehide', rest)
addEventListener('pageshow', wake)
document.addEventListener('visibilitychange', () => {
  if (document.hidden) unseen = setTimeout(rest, 30_000)
  else wake()
})

/** Nobody listens any more. */
export function deaf() {
  rest()
  ears = undefined
}

// How long what is drawn stands before what came meanwhile is drawn, in milliseconds: nobody reads faster.
const stands = 200

/** Puts in together what changes while work is under way: hundreds of boxes must not redraw a table each. */
export function calmly(put: () => void) {
  let drawn = false
  let more = false
  return function draw() {
    more = drawn
    if (drawn) return
    drawn = true
    requestAnimationFrame(put)
    setTimeout(() => {
      drawn = false
      if (more) draw()
    }, stands)
  }
}
