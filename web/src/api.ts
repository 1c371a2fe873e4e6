// The service's API: its types and one way to call it.

export type State = 'planned' | 'matched' | 'configuring' | 'configured' | 'verified' | 'needs attention'

export interface PlanEntry {
  tag: string
  kind: string
  profile: string
  place: string
  address: string
  name: string
  mac: string
  serial: string
}

export interface Entry extends PlanEntry {
  state: State
  reason: string
  device: string
  matchedBy: string
  matchedWhy: string
  checkedAt: string | null
  present: string
  seen: string | null
  boxSerial: string
}

export interface Fact { key: string; value: string; protocol: string; first: string; last: string }

export interface Device {
  mac: string
  profile?: string
  sure: number
  why?: string[]
  first: string
  last: string
  facts: Fact[] | null
  tag: string
  present: string
}

export interface SegmentFinding { kind: string; address?: string; macs: string[]; text: string }
export interface Segment { name: string; devices: Device[]; findings: SegmentFinding[] }
export interface PlanFinding { level: string; tag: string; field: string; reason: string }

export interface Activity {
  kind: '' | 'find' | 'commission' | 'verify'
  state: '' | 'running' | 'done' | 'stopped' | 'failed'
  done: number
  total: number
  failed: number
  seconds: number
  text: string
}

export interface RunDevice { run: number; tag: string; state: string; step: string; done: number; steps: number; error: string }
export interface Run { id: number; state: string; devices: RunDevice[] }
export interface Check { name: string; expected: string; observed: string; verdict: string; at: string }
export interface Note { at: string; who: string; what: string }
export interface Step { name: string; text: string }
export interface Detail { entry: Entry; steps: Step[]; checks: Check[] | null; history: Note[]; device: Device | null; login: string }
export interface Proposal { tag: string; mac: string; serial?: string; profile: string; by: string; sure: number; why: string }
export interface Proposals { proposals: Proposal[]; open: { profile: string; tag?: string; why: string }[] }
export interface Rehearsal {
  devices: { tag: string; mac: string; profile: string; steps: Step[]; seconds: number }[]
  left: { tag: string; why: string }[]
  seconds: number
}
export interface Site {
  name: string
  zone: string
  subnet: { prefix: string; gateway: string; ntp: string; keptFree: { range: string; reason: string }[] | null }
}
export interface Cell { row: number; column?: string; value?: string; reason: string }

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
  const csv = typeof body === 'string' || body instanceof Blob
  let response: Response
  try {
    response = await fetch('/api/' + path, {
      method,
      headers: body === undefined ? {} : { 'Content-Type': csv ? 'text/csv' : 'application/json' },
      body: body === undefined ? undefined : csv ? (body as BodyInit) : JSON.stringify(body),
    })
  } catch {
    throw new Problem(0, 'the service does not answer', '', 'check that it is running')
  }
  if (response.ok) return (response.status === 204 ? undefined : await response.json()) as T
  const p = await response.json().catch(() => ({}))
  if (response.status === 401 && path !== 'session') signedOut()
  throw new Problem(response.status, p.detail ?? response.statusText, p.subject, p.next, p.cells)
}

export const entryPath = (tag: string) => 'entries/' + encodeURIComponent(tag)
