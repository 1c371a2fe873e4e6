<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, nextTick, ref, watch } from 'vue'
import type { Entry, Patch } from '../api'
import { isSecret, valueOf } from '../api'
import { useBlocks } from '../sheet/blocks'
import { useCells } from '../sheet/cells'
import type { Column } from '../sheet/columns'
import { numberWidth, rowHeight, useSelection } from '../sheet/selection'
import { useSite } from '../stores/site'

// The plan as a sheet: moved through and edited with the keyboard, with blocks
// copied from and to a spreadsheet. Only the rows in view are drawn.
const props = defineProps<{ rows: Entry[]; columns: Column[]; readonly: boolean; pending: Map<string, string> }>()
const emit = defineEmits<{
  change: [patches: Patch[], what: string]
  at: [entry: Entry | null, column: Column]
  typing: [patch: Patch | null]
  select: [tags: string[]]
  undo: []
  redo: []
  open: [tag: string]
}>()
const site = useSite()
const box = ref<HTMLElement>()
let input: HTMLInputElement | null = null // the one cell that is edited
const { height } = useElementSize(box)
const top = ref(0)
const hold = (e: unknown) => (input = e as HTMLInputElement | null)
const editing = ref(false)
const text = ref('')

// One row more than there are entries: typing a tag there makes one.
const count = computed(() => props.rows.length + (props.readonly ? 0 : 1))
const { active, anchor, span, current, column, move, all, press, over } = useSelection(props, box, count)
const known = useCells(props)
const { findings, findingAt, shownValue, usable, fallback, choicesFor, patchFor } = known
const { fillDown, clear, copy, paste } = useBlocks(props, span, known, (patches, what) => emit('change', patches, what))
// Rows in view keep their place among the elements while others come and go: one
// that comes into view takes over the elements of one that left.
const pool = computed(() => Math.min(count.value, Math.ceil((height.value || 600) / rowHeight) + 12))
const firstShown = computed(() =>
  Math.max(0, Math.min(Math.floor(top.value / rowHeight) - 6, count.value - pool.value)),
)
const shown = computed(() =>
  Array.from({ length: pool.value }, (_, slot) => {
    const index = firstShown.value + ((((slot - firstShown.value) % pool.value) + pool.value) % pool.value)
    return { slot, index, entry: props.rows[index] ?? null }
  }),
)
const width = computed(() => numberWidth + props.columns.reduce((sum, c) => sum + c.width, 0))

const choices = computed(() => choicesFor(current.value, column.value))

watch(
  [active, () => props.rows, () => props.columns],
  () => {
    const row = Math.max(0, Math.min(active.value.row, count.value - 1))
    const col = Math.max(0, Math.min(active.value.column, props.columns.length - 1))
    if (row !== active.value.row || col !== active.value.column) anchor.value = active.value = { row, column: col }
    if (column.value) emit('at', current.value, column.value)
  },
  { immediate: true },
)
watch(
  [span, () => props.rows],
  () =>
    emit(
      'select',
      props.rows.slice(span.value.top, span.value.bottom + 1).map((e) => e.tag),
    ),
  { immediate: true },
)

function edit(start?: string) {
  if (
    props.readonly ||
    !column.value ||
    !usable(current.value, column.value) ||
    (!current.value && column.value.key !== 'tag')
  )
    return
  const now = current.value ? valueOf(current.value, column.value.key) : ''
  text.value = start ?? (isSecret(now) ? '' : now)
  editing.value = true
  void nextTick(() => {
    input?.focus()
    if (start === undefined) input?.select()
  })
}

function stop() {
  editing.value = false
  emit('typing', null)
  box.value?.focus()
}

function commit(downBy: number, rightBy: number) {
  const e = current.value
  const c = column.value
  const value = text.value.trim()
  stop()
  if (!e) {
    if (value) emit('change', [{ tag: '', set: { tag: value, address: 'none' } }], `${value} added`)
  } else if (c && value !== valueOf(e, c.key)) emit('change', [patchFor(e, c, value)], `${e.tag} ${c.label}`)
  move(active.value.row + downBy, active.value.column + rightBy)
}

watch(text, (value) => {
  if (!editing.value) return
  const e = current.value
  emit(
    'typing',
    e && column.value ? patchFor(e, column.value, value) : { tag: '', set: { tag: value, address: 'none' } },
  )
})

function key(event: KeyboardEvent) {
  const { row, column: col } = active.value
  const page = Math.max(1, Math.floor((height.value || 600) / rowHeight) - 2)
  const ctrl = event.ctrlKey || event.metaKey
  if (editing.value) {
    if (event.key === 'Enter') commit(event.shiftKey ? -1 : 1, 0)
    else if (event.key === 'Tab') commit(0, event.shiftKey ? -1 : 1)
    else if (event.key === 'Escape') stop()
    else return
    event.preventDefault()
    return
  }
  const go: Record<string, () => void> = {
    ArrowUp: () => move(ctrl ? 0 : row - 1, col, event.shiftKey),
    ArrowDown: () => move(ctrl ? props.rows.length - 1 : row + 1, col, event.shiftKey),
    ArrowLeft: () => move(row, ctrl ? 0 : col - 1, event.shiftKey),
    ArrowRight: () => move(row, ctrl ? props.columns.length - 1 : col + 1, event.shiftKey),
    PageUp: () => move(row - page, col, event.shiftKey),
    PageDown: () => move(row + page, col, event.shiftKey),
    Home: () => move(ctrl ? 0 : row, 0, event.shiftKey),
    End: () => move(ctrl ? count.value - 1 : row, props.columns.length - 1, event.shiftKey),
    Enter: () => edit(),
    F2: () => edit(),
    Delete: () => !props.readonly && clear(),
    Backspace: () => !props.readonly && clear(),
    ' ': () => current.value && emit('open', current.value.tag),
  }
  if (ctrl && event.key === 'a') all()
  else if (ctrl && event.key === 'd') {
    if (!props.readonly) fillDown()
  } // never the browser's own meaning
  else if (ctrl && (event.key === 'y' || event.key === 'Z')) {
    if (!props.readonly) emit('redo')
  } else if (ctrl && event.key === 'z') {
    if (!props.readonly) emit('undo')
  } else if (go[event.key]) go[event.key]?.()
  else {
    // The field has the focus before the letter arrives, so the browser puts it there.
    if (!ctrl && !event.altKey && event.key.length === 1) edit('')
    return
  }
  event.preventDefault()
}

/** What is typed in one cell is taken when another is pressed. */
function pressCell(row: number, col: number, event: MouseEvent) {
  if (event.button !== 0) return
  if (editing.value) {
    if (row === active.value.row && col === active.value.column) return
    commit(0, 0)
  }
  press(row, col, event)
}

/** What is chosen and edited in a row; a row is drawn anew only when this, its entry or what is known of it changes. */
function mark(row: number): string {
  const s = span.value
  const chosen = row >= s.top && row <= s.bottom ? `${s.left}-${s.right}` : ''
  return row === active.value.row ? `${chosen} ${active.value.column} ${editing.value}` : chosen
}

/** The cells of a row, as they are drawn. */
function cells(row: number, e: Entry | null) {
  const s = span.value
  return props.columns.map((c, k) => {
    const finding = findingAt(e, c)
    const value = shownValue(e, c)
    const inside = row >= s.top && row <= s.bottom && k >= s.left && k <= s.right
    const here = row === active.value.row && k === active.value.column
    return {
      c,
      k,
      finding,
      inside,
      value,
      here,
      faint: value ? '' : fallback(e, c) || (!e && k === 0 ? 'new tag' : ''),
      class: [
        {
          fixed: k === 0,
          in: inside,
          active: here,
          unfit: !usable(e, c),
          waiting: props.pending.has((e?.tag ?? '') + '\n' + c.key),
          code: c.key === 'address' || c.key === 'mac',
        },
        finding?.level,
      ],
    }
  })
}
defineExpose({ fillDown, focus: () => box.value?.focus(), goTo: (row: number, col: number) => move(row, col) })

function pressRow(index: number, e: MouseEvent) {
  pressCell(index, -1, e)
  box.value!.focus()
}
</script>

<template>
  <div
    ref="box"
    class="sheet"
    role="grid"
    tabindex="0"
    aria-label="The plan"
    data-test="sheet"
    :aria-rowcount="count + 1"
    :aria-colcount="columns.length"
    :aria-readonly="readonly"
    :aria-activedescendant="`cell-${active.row}-${active.column}`"
    @keydown="key"
    @copy="!editing && copy($event)"
    @paste="!editing && paste($event)"
    @scroll="top = box!.scrollTop">
    <div class="head" role="row" :style="{ width: width + 'px' }">
      <div class="cell number" :style="{ width: numberWidth + 'px' }" role="columnheader" aria-label="Row" />
      <div
        v-for="(c, k) in columns"
        :key="c.key"
        class="cell"
        :class="{ fixed: k === 0 }"
        :style="{ width: c.width + 'px' }"
        role="columnheader"
        :title="c.help">
        {{ c.label }}
      </div>
    </div>
    <div :style="{ height: count * rowHeight + 'px', width: width + 'px', position: 'relative' }" role="rowgroup">
      <div
        v-for="r in shown"
        :key="r.slot"
        v-memo="[r.index, r.entry, mark(r.index), columns, pending, findings, site.byId, choices.length > 0]"
        class="row"
        role="row"
        :aria-rowindex="r.index + 2"
        :style="{ top: r.index * rowHeight + 'px' }">
        <div
          class="cell number"
          :style="{ width: numberWidth + 'px' }"
          role="rowheader"
          @mousedown.prevent="pressRow(r.index, $event)"
          @mouseover="over(r.index, columns.length - 1)">
          {{ r.entry ? r.index + 1 : '+' }}
        </div>
        <div
          v-for="d in cells(r.index, r.entry)"
          :id="`cell-${r.index}-${d.k}`"
          :key="d.c.key"
          class="cell"
          role="gridcell"
          :data-cell="`${r.entry?.tag ?? ''}/${d.c.key}`"
          :class="d.class"
          :style="{ width: d.c.width + 'px' }"
          :aria-colindex="d.k + 1"
          :aria-selected="d.inside"
          :aria-invalid="d.finding?.level === 'stops'"
          :title="d.finding?.reason"
          @mousedown="pressCell(r.index, d.k, $event)"
          @mouseover="over(r.index, d.k)"
          @dblclick="edit()">
          <input
            v-if="editing && d.here"
            :ref="hold"
            v-model="text"
            :list="choices.length ? 'sheet-choices' : undefined"
            :aria-label="d.c.label"
            autocomplete="off"
            spellcheck="false"
            @blur="editing && commit(0, 0)" />
          <span v-else :class="{ faint: d.faint }">{{ d.value || d.faint }}</span>
        </div>
      </div>
    </div>
    <datalist id="sheet-choices"><option v-for="c in choices.slice(0, 300)" :key="c" :value="c" /></datalist>
  </div>
</template>

<style scoped src="../sheet/sheet.css"></style>
