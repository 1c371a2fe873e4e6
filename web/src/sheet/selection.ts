// Which cell of a sheet is at hand, and which are chosen.

import type { Ref } from 'vue'
import { computed, nextTick, ref } from 'vue'
import type { Entry } from '../api'
import type { Column, Spot } from './columns'

export const rowHeight = 28
export const numberWidth = 44

export function useSelection(
  props: { rows: Entry[]; columns: Column[] },
  box: Ref<HTMLElement | undefined>,
  count: Ref<number>,
) {
  const active = ref<Spot>({ row: 0, column: 0 })
  const anchor = ref<Spot>({ row: 0, column: 0 })
  const span = computed(() => ({
    top: Math.min(active.value.row, anchor.value.row),
    bottom: Math.max(active.value.row, anchor.value.row),
    left: Math.min(active.value.column, anchor.value.column),
    right: Math.max(active.value.column, anchor.value.column),
  }))
  const current = computed(() => props.rows[active.value.row] ?? null)
  const column = computed(() => props.columns[Math.min(active.value.column, props.columns.length - 1)])

  function move(row: number, col: number, extend = false) {
    const to = {
      row: Math.max(0, Math.min(row, count.value - 1)),
      column: Math.max(0, Math.min(col, props.columns.length - 1)),
    }
    active.value = to
    if (!extend) anchor.value = to
    void nextTick(reveal)
  }

  function reveal() {
    const el = box.value
    if (!el) return
    const y = active.value.row * rowHeight
    const view = el.clientHeight - 30
    if (y < el.scrollTop) el.scrollTop = y
    else if (y + rowHeight > el.scrollTop + view) el.scrollTop = y + rowHeight - view
    const left = props.columns.slice(0, active.value.column).reduce((sum, c) => sum + c.width, 0)
    const wide = props.columns[active.value.column]?.width ?? 0
    const fixed = numberWidth + (props.columns[0]?.width ?? 0)
    if (active.value.column > 0 && left + numberWidth < el.scrollLeft + fixed)
      el.scrollLeft = left + numberWidth - fixed
    else if (left + numberWidth + wide > el.scrollLeft + el.clientWidth)
      el.scrollLeft = left + numberWidth + wide - el.clientWidth
  }

  function all() {
    anchor.value = { row: 0, column: 0 }
    active.value = { row: Math.max(0, props.rows.length - 1), column: props.columns.length - 1 }
  }

  let dragging = false
  /** A press of the button on a cell; column -1 is the whole row. */
  function press(row: number, col: number, event: MouseEvent) {
    dragging = true
    window.addEventListener('mouseup', () => (dragging = false), { once: true })
    move(row, Math.max(0, col), event.shiftKey)
    if (col < 0) {
      anchor.value = { row: event.shiftKey ? anchor.value.row : row, column: 0 }
      active.value = { row, column: props.columns.length - 1 }
    }
  }
  function over(row: number, col: number) {
    if (dragging) active.value = { row, column: Math.max(0, col) }
  }

  return { active, anchor, span, current, column, move, all, press, over }
}
