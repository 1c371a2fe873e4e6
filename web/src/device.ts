// What is known of a found device, in words.

import type { Device } from './api'

/** The latest value of a fact of the device itself, or of a part behind it. */
export function latest(d: Device, key: string, part = ''): string {
  return (
    (d.facts ?? [])
      .filter((f) => f.key === key && (f.part ?? '') === part)
      .sort((a, b) => (a.last < b.last ? 1 : -1))[0]?.value ?? ''
  )
}

export const heardBy = (d: Device) =>
  [...new Set((d.facts ?? []).map((f) => f.protocol))].sort().join(', ') || 'traffic'

/** What hangs behind it, apart from a switch's ports, which are many. */
export const partsOf = (d: Device) =>
  [...new Set((d.facts ?? []).map((f) => f.part ?? ''))].filter((p) => p && !p.startsWith('port '))

export const modelOf = (d: Device) => d.profile || (d.maybe?.length ? d.maybe.join(' or ') + '?' : 'unknown')

export const stateOf = (d: Device) => (d.here ? d.state || 'not known' : 'not here now')

/** Where it is: its address, or why it has none. */
export const placeOf = (d: Device) => d.present || (d.waits ? 'waits for DHCP' : latest(d, 'address6') || 'no address')
