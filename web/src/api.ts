// The service's API: its types and one way to call it.

export type State = 'planned' | 'matched' | 'configuring' | 'configured' | 'verified' | 'needs attention'

export interface PlanEntry {
  tag: string
  kind: string
  profile: string
  area?: string
  floor?: string
  place?: string
  label?: string
  description?: string
  note?: string
  subnet?: string
  address: string
  name: string
  mac?: string
  serial?: string
  switchPort?: string
  behind?: string
  part?: string
  notWired?: boolean
  after?: string[]
  settings?: Record<string, string>
}

export interface Entry extends PlanEntry {
  state: State
  reason: string
  device: string
  matchedBy: string
  matchedWhy: string
  locked?: boolean
  byHand?: boolean
  checkedAt: string | null
  here: boolean
  present: string // where its box is now; '' when that is not known
  lastAddress: string
  lastAddressAt: string | null
  seen: string | null
  notLookedAt: string[] | null
  handBy?: string
  handAt: string | null
  boxSerial: string
  differs?: string[]
  told?: string // the part that the box before it tells of
}

/** A field or setting of an entry as text, by its key. */
export function valueOf(e: PlanEntry, key: string): string {
  if (key === 'not-wired') return e.notWired ? 'yes' : ''
  if (key === 'switch-port') return e.switchPort ?? ''
  if (key === 'after') return (e.after ?? []).join(' ')
  const own = (e as unknown as Record<string, unknown>)[key]
  return typeof own === 'string' && key !== 'state' ? own : e.settings?.[key] ?? ''
}

/** What stands for a secret in the vault. */
export const isSecret = (value: string) => value.startsWith('vault:')

export interface Setting {
  key: string; label: string; type: string; help?: string; required?: boolean; default?: string; unit?: string
  min?: number; max?: number; choices?: string[]; kinds?: string[]; of?: string[]; many?: boolean; unique?: string; from?: string; columns?: Setting[]
}
export interface Profile { id: string; maker: string; model: string; kind: string; about: string; user: string; order: unknown[] | null; settings?: Setting[] }
export interface Patch { tag: string; set?: Record<string, string>; remove?: boolean }
export interface Change { tag: string; field: string; before: string; after: string; why?: string }
export interface Comparison { added: PlanEntry[]; changed: Change[]; removed: PlanEntry[] }
export interface Complaint { patch: number; field?: string; value?: string; reason: string }
export interface Edited { revision: number; comparison: Comparison; changes: Change[]; kept: string[]; complaints: Complaint[]; findings?: PlanFinding[]; new?: PlanFinding[] }
export interface ImportResult {
  format: string; sheet: string; sheets: string[]; header: string[]; mapping: Record<string, string>; leftOut: string[]; rows: number
  samples: { row: number; fields: Record<string, string> }[]; cells: Cell[]; comparison: Comparison; untouched: Change[]; findings: PlanFinding[]; site?: Site
}
export interface MapCell { address: string; is: string; tag?: string; text: string }
export interface AddressMap { name: string; prefix: string; hosts: number; free: number; cells: MapCell[]; network: string; broadcast: string; mask: string }
export interface Reckoning { prefix: string; mask: string; network: string; broadcast: string; first: string; last: string; hosts: number; subnet?: string; left: number; is?: string; text?: string }
export interface Revision { id: number; at: string; who: string; what: string; name: string; undoes?: number; may?: 'undo' | 'redo' }
export interface Moments { from: Revision; to: Revision | null; site: Change[]; comparison: Comparison }
export interface Value { key: string; label: string; value: string; from: string }
export interface User { name: string; rights: string }
export interface Token { id: number; user: string; name: string; madeAt: string; usedAt: string | null }

export interface Fact { part?: string; key: string; value: string; protocol: string; first: string; last: string }

export interface Device {
  mac: string
  profile?: string
  chosen?: boolean
  maybe?: string[]
  sure: number
  why?: string[]
  state?: string
  stateWhy?: string
  first: string
  last: string
  facts: Fact[] | null
  partTags?: Record<string, string> // entries that it tells of behind it
  tag: string
  present: string
  here: boolean
  lastAddress: string
  lastAddressAt: string | null
  kind: string
  blinks: boolean
  waits: boolean
  page: boolean
  contradictions?: { key: string; facts: Fact[] }[]
}

export interface SegmentFinding { kind: string; address?: string; tag?: string; macs: string[]; text: string; next?: string; quiet?: boolean }
export interface Segment { name: string; watched: boolean; surveyed: boolean; lookOnly: boolean; dark: boolean; devices: Device[]; arrivals: Presence[]; findings: SegmentFinding[] }
export interface Interface {
  name: string; mac: string; up: boolean; link: boolean; speed: number; wireless: boolean; virtual: boolean; defaultRoute: boolean; addresses: string[] | null
  hears: { frames: number; senders: number; broadcasts: number; storm: boolean; subnets: string[]; servers: string[] } | null; warnings: string[]; inUse: boolean
}
/** A segment that the service is on, with the sites that use it. */
export interface SegmentPlug { name: string; here: boolean; dark: boolean; sites: string[] }
export interface SurveyChange { kind: string; mac: string; from?: string; to?: string }
export interface Survey { id: number; began: string; ended: string; who: string; pace: number; state: string; found: number; believed: number; passes: number[] | null; changes: SurveyChange[] | null; capture: string }
export interface Asker { mac: string; host: string; class: string; profile: string; tag: string; last: string }
export interface Presence { kind: 'arrived' | 'returned' | 'told' | 'departed'; device: Device; at: string }
export interface Scanned { outcome: 'entry' | 'matched' | 'noted' | 'device' | 'unknown'; tag: string; device: Device | null; text: string }
export interface PlanFinding { code: string; level: string; tag: string; profile?: string; field: string; reason: string; mend?: { field: string; value: string; safe: boolean } }

export interface Work {
  id: number
  site: string
  kind: 'find' | 'commission' | 'verify' | 'hand out addresses'
  state: 'running' | 'done' | 'stopped' | 'interrupted' | 'failed'
  who: string
  done: number
  total: number
  failed: number
  unsure: number
  parked: number
  seconds: number
  text: string
  run?: number
}

/** What a device waits for a person to do, and how long what follows may take then. */
export interface Hand { do?: string; look?: string; parkedAt: string; within?: number; windowEnds: string }
export interface RunDevice { run: number; tag: string; state: string; step: string; done: number; steps: number; error: string; hand?: Hand }
export interface Run { id: number; state: string; cause?: string; devices: RunDevice[] }
export interface Check { name: string; expected: string; observed: string; verdict: 'passed' | 'failed' | 'not looked at'; by?: string; at: string }
export interface Note { at: string; who: string; what: string }
export interface Step { name: string; text: string }
export interface Detail { entry: Entry; steps: Step[]; settings: Value[]; checks: Check[] | null; history: Note[]; device: Device | null; login: Credential | null }
export interface Credential { id: number; user: string; state: string; at: string; toldBy: string; origin: string; madeAt: string }
export interface Proposal { tag: string; mac: string; serial?: string; profile: string; by: string; sure: number; why: string; part?: boolean; guess?: boolean }
export interface Proposals { proposals: Proposal[]; open: { profile: string; tag?: string; why: string; decide?: string }[]; missing: string[]; spare: string[] }
export interface Rehearsal {
  devices: { tag: string; mac: string; profile: string; steps: Step[]; seconds: number; notSent?: string[]
  after?: string[] }[]
  left: { tag: string; why: string }[]
  seconds: number
}
export interface Subnet {
  name: string; prefix: string; vlan: number; gateway: string; dns: string[] | null; ntp: string[] | null; domain: string; log: string[] | null; snmp: string[] | null
  keptFree: { range: string; reason: string }[] | null; ranges: { kind: string; range: string }[] | null
}
export interface Policy { for: string; mode: string; length: number; given: string; users: string; user: string; recovery: string }
export interface Site {
  key: string; name: string; contact: string; notes: string; zone: string; language: string; naming: string
  subnets: Subnet[] | null; policies: Policy[] | null
}
export interface SiteSummary extends Site { entries: number; states: Record<string, number> }
export interface Cell { sheet?: string; row: number; column?: string; value?: string; reason: string }

/** A problem document of the service (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly subject = '',
    readonly next = '',
    readonly cells: Cell[] = [],
  ) {
    super(sentence(subject ? `${subject}: ${detail}` : detail) + (next ? ` ${sentence(next)}` : ''))
  }
}

function sentence(text: string): string {
  const s = text.charAt(0).toUpperCase() + text.slice(1)
  return /[.!?]$/.test(s) ? s : s + '.'
}

let signedOut = () => {}

/** Says what to do when the service answers that nobody is signed in. */
export function onSignedOut(f: () => void) {
  signedOut = f
}

export async function call<T = void>(method: string, path: string, body?: unknown): Promise<T> {
  const raw = body instanceof Blob
  let response: Response
  try {
    response = await fetch('/api/' + path, {
      method,
      headers: body === undefined ? {} : { 'Content-Type': raw ? 'application/octet-stream' : 'application/json' },
      body: body === undefined ? undefined : raw ? (body as Blob) : JSON.stringify(body),
    })
  } catch {
    throw new Problem(0, 'the service does not answer', '', 'check that it is running')
  }
  if (response.ok) return (response.status === 204 ? undefined : await response.json()) as T
  const p = await response.json().catch(() => ({}))
  if (response.status === 401 && path !== 'session') signedOut()
  throw new Problem(response.status, p.detail ?? response.statusText, p.subject, p.next, p.cells)
}

let present = ''

/** Chooses the site that siteCall is about. */
export function about(key: string) {
  present = key
}

export const sitePath = (path: string) => `sites/${encodeURIComponent(present)}${path && '/' + path}`

/** A call about the site that is open. An answer that comes when another one is open by
 * then is for nobody: tags may be the same in both. */
export async function siteCall<T = void>(method: string, path: string, body?: unknown): Promise<T> {
  const asked = present
  const settled = await call<T>(method, sitePath(path), body).then((value) => ({ value }), (error: unknown) => ({ error }))
  if (asked !== present) return new Promise<T>(() => {})
  if ('error' in settled) throw settled.error
  return settled.value
}

export const entryPath = (tag: string) => 'entries/' + encodeURIComponent(tag)
