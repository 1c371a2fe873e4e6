// The service's API: one way to call it, and its types, which are made from its description
// (openapi.json; make api).

import type { components } from './schema'

export type Bodies = components['schemas']

export type PlanEntry = Bodies['Entry']
export type Entry = Bodies['EntryView']
export type Setting = Bodies['Setting']
export type Profile = Bodies['Profile']
export type Patch = Bodies['Patch']
export type Change = Bodies['Change']
export type Comparison = Bodies['Comparison']
export type Complaint = Bodies['Complaint']
export type Edited = Bodies['Edited']
export type ImportResult = Bodies['Result']
export type AddressMap = Bodies['Map']
export type Reckoning = Bodies['Reckoning']
export type Revision = Bodies['RevisionView']
export type Moments = Bodies['Moments']
export type Value = Bodies['Value']
export type User = Bodies['User']
export type Token = Bodies['Token']
export type Fact = Bodies['Fact']
export type Device = Bodies['DeviceView']
export type SegmentFinding = Bodies['Notice']
export type Segment = Bodies['Segment']
export type Interface = Bodies['InterfaceView']
/** A segment that the service is on, with the sites that use it. */
export type SegmentPlug = Bodies['SegmentView']
export type SurveyChange = Bodies['DeviceChange']
export type Survey = Bodies['Survey']
export type Asker = Bodies['Asker']
export type Presence = Bodies['Presence']
export type Scanned = Bodies['Scanned']
export type PlanFinding = Bodies['Finding']
/** What an event tells of a site: each whole as it is now; what is left out is as it was. */
export interface Changes {
  entries?: Entry[]
  order?: string[]
  empty?: boolean
  devices?: Device[]
  gone?: string[]
  findings?: Record<string, PlanFinding[]>
  segment?: SegmentFinding[]
  matches?: boolean
}
export type Work = Bodies['Work']
/** What a device waits for a person to do, and how long what follows may take then. */
export type Hand = Bodies['Hand']
export type HandTask = Bodies['HandTask']
export type HandList = Bodies['HandList']
export type Licence = Bodies['Licence']
export type LicencesTaken = Bodies['LicencesTaken']
export type PortRole = Bodies['PortRole']
export type RunDevice = Bodies['RunDevice']
export type Run = Bodies['Run']
export type Check = Bodies['Check']
export type Note = Bodies['Note']
export type Step = Bodies['Step']
export type Detail = Bodies['Detail']
export type Credential = Bodies['Credential']
export type Proposal = Bodies['Proposal']
export type Proposals = Bodies['MatchResult']
export type Rehearsal = Bodies['Rehearsal']
export type Subnet = Bodies['Subnet']
export type Policy = Bodies['Policy']
export type KnownLogin = Bodies['KnownLogin']
export type Site = Bodies['Site']
export type SiteSummary = Bodies['Summary']
export type Cell = Bodies['Cell']
export type MapCell = Bodies['PlanCell']
export type State = Entry['state']

/** A field or setting of an entry as text, by its key. */
export function valueOf(e: PlanEntry, key: string): string {
  if (key === 'not-wired') return e.notWired ? 'yes' : ''
  if (key === 'switch-port') return e.switchPort ?? ''
  if (key === 'after') return (e.after ?? []).join(' ')
  const own = (e as unknown as Record<string, unknown>)[key]
  return typeof own === 'string' && key !== 'state' ? own : (e.settings?.[key] ?? '')
}

/** What stands for a secret in the vault. */
export const isSecret = (value: string) => value.startsWith('vault:')

/** A problem document of the service (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly subject = '',
    readonly next = '',
    readonly cells: Cell[] = [],
    /** Its kind, a URI. */
    readonly type = '',
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
  throw new Problem(response.status, p.detail ?? response.statusText, p.subject, p.next, p.cells, p.type)
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
  const settled = await call<T>(method, sitePath(path), body).then(
    (value) => ({ value }),
    (error: unknown) => ({ error }),
  )
  if (asked !== present) return new Promise<T>(() => {})
  if ('error' in settled) throw settled.error
  return settled.value
}

export const entryPath = (tag: string) => 'entries/' + encodeURIComponent(tag)
