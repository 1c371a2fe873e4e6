// Blocks of cells: filled down, cleared, copied from and to a spreadsheet.

import type { Ref } from 'vue'
import type { Entry, Patch } from '../api'
import { valueOf } from '../api'
import { useSite } from '../stores/site'
import type { useCells } from './cells'
import type { Column } from './columns'
import { blockOf, countOn, settingOf } from './columns'

export function useBlocks(
  props: { rows: Entry[]; columns: Column[]; readonly: boolean },
  span: Ref<{ top: number; bottom: number; left: number; right: number }>,
  { usable, shownValue }: ReturnType<typeof useCells>,
  change: (patches: Patch[], what: string) => void,
) {
  const site = useSite()

  function each(f: (e: Entry, c: Column, row: number, col: number) => string | undefined, what: string) {
    const patches: Patch[] = []
    for (let r = span.value.top; r <= Math.min(span.value.bottom, props.rows.length - 1); r++) {
      const e = props.rows[r]
      if (!e) break
      const set: Record<string, string> = {}
      for (let k = span.value.left; k <= span.value.right; k++) {
        const c = props.columns[k]
        const v = c && usable(e, c) ? f(e, c, r - span.value.top, k) : undefined
        if (c && v !== undefined && v !== valueOf(e, c.key)) set[c.key] = v
      }
      if (Object.keys(set).length) patches.push({ tag: e.tag, set })
    }
    if (patches.length) change(patches, what)
  }

  function fillDown() {
    const first = props.rows[span.value.top]
    if (!first || span.value.top === span.value.bottom) return
    each(
      (_e, c, n) =>
        n === 0 || (c.key === 'tag' && !/\d$/.test(first.tag))
          ? undefined
          : ['tag', 'address', 'serial', 'name', 'room', 'bus-address', 'device-instance'].includes(c.key) ||
              (/\d$/.test(valueOf(first, c.key)) && c.setting && settingOf(site.byId.get(first.profile), c.key)?.unique)
            ? countOn(valueOf(first, c.key), n)
            : valueOf(first, c.key),
      'filled down',
    )
  }

  function copy(event: ClipboardEvent) {
    event.preventDefault()
    const lines: string[] = []
    for (let r = span.value.top; r <= Math.min(span.value.bottom, props.rows.length - 1); r++) {
      const e = props.rows[r]
      if (!e) break
      lines.push(
        props.columns
          .slice(span.value.left, span.value.right + 1)
          .map((c) => shownValue(e, c))
          .join('\t'),
      )
    }
    event.clipboardData?.setData('text/plain', lines.join('\n'))
  }

  function paste(event: ClipboardEvent) {
    if (props.readonly) return
    event.preventDefault()
    const block = blockOf(event.clipboardData?.getData('text/plain') ?? '')
    const patches: Patch[] = []
    // One cell is put into every selected one.
    const only = block[0]?.[0]
    if (block.length === 1 && block[0]?.length === 1) return each(() => only, 'pasted')
    block.forEach((cells, r) => {
      const e = props.rows[span.value.top + r]
      const set: Record<string, string> = {}
      cells.forEach((value, k) => {
        const c = props.columns[span.value.left + k]
        if (c && usable(e ?? null, c) && (!e || value !== valueOf(e, c.key)) && value !== '•••') set[c.key] = value
      })
      if (e && Object.keys(set).length) patches.push({ tag: e.tag, set })
      if (!e && set.tag) patches.push({ tag: '', set })
    })
    if (patches.length) change(patches, `${block.length} rows pasted`)
  }

  const clear = () => each((_e, c) => (c.key === 'tag' ? undefined : ''), 'cleared')

  return { fillDown, clear, copy, paste }
}
