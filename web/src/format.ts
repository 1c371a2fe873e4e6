const time = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' })
const dayTime = new Intl.DateTimeFormat('en-GB', {
  day: 'numeric',
  month: 'short',
  hour: '2-digit',
  minute: '2-digit',
  second: '2-digit',
})

/** A time of today as a clock, any other with its day; a dash for none. */
export function clock(at: string | null | undefined): string {
  if (!at || at.startsWith('0001')) return '–'
  const d = new Date(at)
  return (d.toDateString() === new Date().toDateString() ? time : dayTime).format(d)
}

export function left(seconds: number): string {
  if (seconds < 1) return ''
  return seconds < 90 ? `about ${Math.round(seconds)} s left` : `about ${Math.round(seconds / 60)} min left`
}

export function plural(n: number, one: string): string {
  if (n === 1) return '1 ' + one
  return `${n} ${one.endsWith('y') ? one.slice(0, -1) + 'ies' : one.endsWith('ch') ? one + 'es' : one + 's'}`
}

export const states = [
  'needs attention',
  'differs',
  'planned',
  'matched',
  'configuring',
  'configured',
  'verified',
  'not wired yet',
]

/** Tells whether a text has every word that is searched for. */
export function searched(search: string): (text: string) => boolean {
  const words = search.toLowerCase().split(/\s+/).filter(Boolean)
  return (text) => {
    const low = text.toLowerCase()
    return words.every((w) => low.includes(w))
  }
}
