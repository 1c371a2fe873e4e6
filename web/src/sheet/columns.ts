// What happens in the plan's sheet, apart from drawing it: columns, blocks,
// filling down.

import type { Profile, Setting } from '../api'

export interface Field {
  key: string
  label: string
  help: string
}
export interface Column {
  key: string
  label: string
  help: string
  width: number
  setting: boolean
}
export interface Spot {
  row: number
  column: number
}

const widths: Record<string, number> = {
  tag: 150,
  kind: 120,
  profile: 130,
  area: 80,
  floor: 60,
  place: 165,
  address: 115,
  name: 150,
  mac: 145,
  serial: 115,
  'not-wired': 124,
  after: 130,
  description: 160,
  note: 160,
  label: 120,
  subnet: 100,
}
export const usual = [
  'tag',
  'profile',
  'area',
  'floor',
  'place',
  'address',
  'name',
  'mac',
  'serial',
  'not-wired',
  'after',
]

/** The columns with these keys, in the order of fields and profiles. */
export function columnsOf(keys: string[], fields: Field[], profiles: Profile[]): Column[] {
  const wanted = new Set(keys)
  const list: Column[] = fields
    .filter((f) => wanted.has(f.key))
    .map((f) => ({ ...f, width: widths[f.key] ?? 120, setting: false }))
  for (const p of profiles) {
    for (const s of p.settings ?? []) {
      if (wanted.has(s.key) && !list.some((c) => c.key === s.key))
        list.push({
          key: s.key,
          label: s.label,
          help: helpOf(s),
          width: Math.max(110, s.label.length * 8 + 24),
          setting: true,
        })
    }
  }
  return list
}

export function helpOf(s: Setting): string {
  const parts: string[] = []
  if (s.type === 'number') parts.push(`${s.min ?? '…'} to ${s.max ?? '…'}${s.unit ? ' ' + s.unit : ''}`)
  if (s.choices) parts.push(s.choices.join(', ') + (s.unit ? ' ' + s.unit : ''))
  if (s.type === 'entry') parts.push('tag of ' + (s.kinds?.join(' or ') || 'an entry') + (s.many ? ', several' : ''))
  if (s.type === 'setting') parts.push('TAG/' + (s.of ?? []).join(' or TAG/'))
  if (s.type === 'computed') parts.push('computed')
  if (s.default) parts.push(`else ${s.default}`)
  return [s.help, parts.join('; ')].filter(Boolean).join('. ')
}

/** The rows of a table, or null for any other value. */
export function rowsOf(value: string): Record<string, string>[] | null {
  if (!value.startsWith('[{')) return null
  try {
    return JSON.parse(value)
  } catch {
    return null // it is shown as it is; checking says what is wrong
  }
}

/** A value as it is shown: of a table, how much it holds. */
export function inShort(value: string): string {
  const rows = rowsOf(value)
  return rows ? `${rows.length} row${rows.length === 1 ? '' : 's'}` : value
}

export const settingOf = (p: Profile | undefined, key: string) => p?.settings?.find((s) => s.key === key)

/** Adds to the number at the end of a text; an address counts on as an address. */
export function countOn(text: string, by: number): string {
  const ip = /^(\d+)\.(\d+)\.(\d+)\.(\d+)$/.exec(text)
  if (ip) {
    const n = ip.slice(1).reduce((sum, part) => sum * 256 + Number(part), 0) + by
    return [24, 16, 8, 0].map((shift) => Math.floor(n / 2 ** shift) % 256).join('.')
  }
  const end = /\d+$/.exec(text)
  if (!end) return text
  return text.slice(0, end.index) + String(Number(end[0]) + by).padStart(end[0].length, '0')
}

/** Takes a block apart that was copied from a spreadsheet: rows of cells (text/tab-separated-values). */
export function blockOf(text: string): string[][] {
  const rows: string[][] = [[]]
  let cell = ''
  let quoted = false
  for (let i = 0; i < text.length; i++) {
    const c = text[i]
    if (quoted) {
      if (c === '"' && text[i + 1] === '"') cell += text[++i]
      else if (c === '"') quoted = false
      else cell += c
    } else if (c === '"' && cell === '') quoted = true
    else if (c === '\t' || c === '\n') {
      rows.at(-1)?.push(cell.trim())
      cell = ''
      if (c === '\n') rows.push([])
    } else if (c !== '\r') cell += c
  }
  rows.at(-1)?.push(cell.trim())
  if (rows.length > 1 && rows.at(-1)?.every((x) => x === '')) rows.pop()
  return rows
}
