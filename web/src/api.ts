// The service's API: one way to call it, and its types, which are made from its description
// (openapi.json; make api).

import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Bodies = components['schemas']

export type PlanEntry = Bodies['Entry']
export type Entry = Bodies['EntryView']
export type Setting = Bodies['Setting']
export type Profile = Bodies['Profile']
export type Patch = Bodies['Patch']
export type Change = Bodies['Change']
export type Comparison = Bodies['Comparison']
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
export type PortRole = Bodies['PortRole']
export type RunDevice = Bodies['RunDevice']
export type Run = Bodies['Run']
export type Check = Bodies['Check']
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

const client = createClient<paths>({ fetch: (request) => fetch(request) })
client.use({
  onError: () => new Problem(0, 'the service does not answer', '', 'check that it is running'),
  async onResponse({ response, schemaPath }) {
    if (response.ok) return
    const p: Partial<Bodies['Problem']> = await response.json().catch(() => ({}))
    if (response.status === 401 && schemaPath !== '/api/session') signedOut()
    throw new Problem(response.status, p.detail || response.statusText, p.subject, p.next, p.cells, p.type)
  },
})

type Method = 'get' | 'put' | 'post' | 'delete' | 'patch'
/** Paths below a root, without it, that have a method. */
type Below<Root extends string, M extends Method> = keyof {
  [P in keyof paths as P extends `${Root}${infer Rest}` ? (paths[P][M] extends object ? Rest : never) : never]: 1
}
type At<Path, M extends Method> = Path extends keyof paths ? NonNullable<paths[Path][M]> : never

/** What an operation says at a key; nothing where it says that there is none. */
type Part<O, Key extends string> = O extends { [K in Key]?: infer V }
  ? [NonNullable<V>] extends [never]
    ? object
    : NonNullable<V>
  : object
type Parameters<O, Where extends 'path' | 'query'> = Part<Part<O, 'parameters'>, Where>
/** Left out where nothing in it must be said. */
type Said<Name extends string, P> = [keyof P] extends [never]
  ? object
  : Partial<P> extends P
    ? { [K in Name]?: P }
    : { [K in Name]: P }
type Sent<O> =
  Part<O, 'requestBody'> extends { content: infer C }
    ? C extends { 'application/json': infer B }
      ? { body: B }
      : { body: Blob }
    : object
/** What a call wants besides its path: values in the path, the query, and the body. */
type Wants<O, Known extends string = never> = Said<'path', Omit<Parameters<O, 'path'>, Known>> &
  Said<'query', Parameters<O, 'query'>> &
  Sent<O>
type Gives<O> = O extends { responses: infer R }
  ? R extends { 200: { content: { 'application/json': infer B } } }
    ? B
    : R extends { 202: { content: { 'application/json': infer B } } }
      ? B
      : void
  : void
type Maybe<W> = Partial<W> extends W ? [wants?: W] : [wants: W]

async function request(
  method: Method,
  path: string,
  wants: { path?: object; query?: object; body?: unknown } = {},
  parseAs: 'json' | 'blob' = 'json',
): Promise<unknown> {
  const raw = wants.body instanceof Blob
  const { data } = await client.request(
    method,
    path as never,
    {
      params: { path: wants.path, query: wants.query },
      body: wants.body,
      parseAs,
      ...(raw && { bodySerializer: (b: Blob) => b, headers: { 'Content-Type': 'application/octet-stream' } }),
    } as never,
  )
  return data
}

/** A call about the service. */
export async function call<M extends Method, P extends Below<'/api', M>>(
  method: M,
  path: P,
  ...[wants]: Maybe<Wants<At<`/api${P}`, M>>>
): Promise<Gives<At<`/api${P}`, M>>> {
  return (await request(method, `/api${path as string}`, wants)) as never
}

let present = ''

/** Chooses the site that siteCall is about. */
export function about(key: string) {
  present = key
}

/** Whether a site is the one that is open. */
export const isOpen = (key: string | undefined) => key === present

/** Where the browser itself finds something of the site that is open. */
export const siteURL = (path: string) => `/api/sites/${encodeURIComponent(present)}/${path}`

const ofSite = (wants: unknown) => {
  const { path, ...rest } = (wants ?? {}) as { path?: object }
  return { ...rest, path: { ...path, site: present } }
}

/** A call about the site that is open. An answer that comes when another one is open by
 * then is for nobody: tags may be the same in both. */
export async function siteCall<M extends Method, P extends Below<'/api/sites/{site}', M>>(
  method: M,
  path: P,
  ...[wants]: Maybe<Wants<At<`/api/sites/{site}${P}`, M>, 'site'>>
): Promise<Gives<At<`/api/sites/{site}${P}`, M>>> {
  const asked = present
  const settled = await request(method, `/api/sites/{site}${path as string}`, ofSite(wants)).then(
    (value) => ({ value }),
    (error: unknown) => ({ error }),
  )
  if (asked !== present) return new Promise(() => {})
  if ('error' in settled) throw settled.error
  return settled.value as never
}

/** A file that is made within the request, since nothing of it is to lie on a disk. */
export async function serviceFile<P extends Below<'/api', 'post'>>(
  path: P,
  ...[wants]: Maybe<Wants<At<`/api${P}`, 'post'>>>
): Promise<Blob> {
  return (await request('post', `/api${path as string}`, wants, 'blob')) as Blob
}

/** The same of the site that is open. */
export const siteFile = <P extends Below<'/api/sites/{site}', 'post'>>(
  path: P,
  ...[wants]: Maybe<Wants<At<`/api/sites/{site}${P}`, 'post'>, 'site'>>
): Promise<Blob> => request('post', `/api/sites/{site}${path as string}`, ofSite(wants), 'blob') as Promise<Blob>
