<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, nextTick, ref, watch } from 'vue'
import type { Entry, Patch, PlanFinding } from '../api'
import { isSecret, valueOf } from '../api'
import { usePlan } from '../stores/plan'
import { useSite } from '../stores/site'
import type { Column, Spot } from '../sheet'
import { blockOf, countOn, inShort, settingOf } from '../sheet'

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
const plan = usePlan()
const rowHeight = 28
const numberWidth = 44

const box = ref<HTMLElement>()
let input: HTMLInputElement | null = null // the one cell that is edited
const { height } = useElementSize(box)
const top = ref(0)
const active = ref<Spot>({ row: 0, column: 0 })
const anchor = ref<Spot>({ row: 0, column: 0 })
const hold = (e: unknown) => (input = e as HTMLInputElement | null)
const editing = ref(false)
const text = ref('')

// One row more than there are entries: typing a tag there makes one.
const count = computed(() => props.rows.length + (props.readonly ? 0 : 1))
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
const span = computed(() => ({
  top: Math.min(active.value.row, anchor.value.row),
  bottom: Math.max(active.value.row, anchor.value.row),
  left: Math.min(active.value.column, anchor.value.column),
  right: Math.max(active.value.column, anchor.value.column),
}))
const width = computed(() => numberWidth + props.columns.reduce((sum, c) => sum + c.width, 0))

const findings = computed(() => {
  const m = new Map<string, PlanFinding>()
  for (const f of plan.findings) {
    const key = f.tag + '\n' + f.field
    const worse = m.get(key)
    if (!worse || f.level === 'stops') m.set(key, f)
  }
  return m
})
const findingAt = (e: Entry | null, c: Column) => (e ? findings.value.get(e.tag + '\n' + c.key) : undefined)

function shownValue(e: Entry | null, c: Column): string {
  if (!e) return ''
  const waiting = props.pending.get(e.tag + '\n' + c.key)
  if (waiting !== undefined) return waiting
  const v = valueOf(e, c.key)
  return isSecret(v) ? '•••' : inShort(v)
}
// A setting that the profile does not have is not for this entry.
const usable = (e: Entry | null, c: Column) =>
  !c.setting ||
  !e ||
  (settingOf(site.byId.get(e.profile), c.key) !== undefined &&
    settingOf(site.byId.get(e.profile), c.key)!.type !== 'computed')
const current = computed(() => props.rows[active.value.row] ?? null)
const column = computed(() => props.columns[Math.min(active.value.column, props.columns.length - 1)])
const fallback = (e: Entry | null, c: Column) =>
  e && c.setting && !valueOf(e, c.key) ? (settingOf(site.byId.get(e.profile), c.key)?.default ?? '') : ''

const choices = computed<string[]>(() => {
  const e = current.value
  const c = column.value
  if (!c) return []
  if (c.key === 'profile') return site.profiles.map((p) => p.id)
  if (c.key === 'kind') return [...new Set(site.profiles.map((p) => p.kind))]
  if (c.key === 'subnet') return (site.site?.subnets ?? []).map((n) => n.name)
  if (c.key === 'not-wired') return ['yes']
  if (c.key === 'after') return plan.entries.map((x) => x.tag)
  const s = e && settingOf(site.byId.get(e.profile), c.key)
  if (!s) return []
  if (s.type === 'yes-no') return ['yes', 'no']
  if (s.type === 'entry')
    return plan.entries.filter((x) => !s.kinds?.length || s.kinds.includes(x.kind)).map((x) => x.tag)
  if (s.type === 'setting')
    return plan.entries
      .filter((x) => !s.kinds?.length || s.kinds.includes(x.kind))
      .flatMap((x) => (s.of ?? []).filter((k) => settingOf(site.byId.get(x.profile), k)).map((k) => `${x.tag}/${k}`))
  return s.choices ?? []
})

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
  if (active.value.column > 0 && left + numberWidth < el.scrollLeft + fixed) el.scrollLeft = left + numberWidth - fixed
  else if (left + numberWidth + wide > el.scrollLeft + el.clientWidth)
    el.scrollLeft = left + numberWidth + wide - el.clientWidth
}

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

/** A profile that is given to an entry without name or address brings both. */
function patchFor(e: Entry, c: Column, value: string): Patch {
  const set: Record<string, string> = { [c.key]: value }
  const p = c.key === 'profile' ? site.byId.get(value) : undefined
  if (p) {
    set.kind = p.kind
    if (!e.address) set.address = 'next'
    if (!e.name) set.name = 'auto'
  }
  return { tag: e.tag, set }
}

watch(text, (value) => {
  if (!editing.value) return
  const e = current.value
  emit(
    'typing',
    e && column.value ? patchFor(e, column.value, value) : { tag: '', set: { tag: value, address: 'none' } },
  )
})

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
  if (patches.length) emit('change', patches, what)
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
  if (editing.value) return
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
  if (editing.value || props.readonly) return
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
  if (patches.length) emit('change', patches, `${block.length} rows pasted`)
}

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
    Delete: () => !props.readonly && each((_e, c) => (c.key === 'tag' ? undefined : ''), 'cleared'),
    Backspace: () => !props.readonly && each((_e, c) => (c.key === 'tag' ? undefined : ''), 'cleared'),
    ' ': () => current.value && emit('open', current.value.tag),
  }
  if (ctrl && event.key === 'a') {
    anchor.value = { row: 0, column: 0 }
    active.value = { row: Math.max(0, props.rows.length - 1), column: props.columns.length - 1 }
  } else if (ctrl && event.key === 'd') {
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

let dragging = false
function press(row: number, col: number, event: MouseEvent) {
  if (event.button !== 0) return
  if (editing.value) {
    if (row === active.value.row && col === active.value.column) return
    commit(0, 0)
  }
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
  press(index, -1, e)
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
    @copy="copy"
    @paste="paste"
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
          @mousedown="press(r.index, d.k, $event)"
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

<style scoped>
.sheet {
  flex: 1;
  min-height: 200px;
  overflow: auto;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--card);
  outline-offset: -2px;
  font-size: 13px;
  user-select: none;
}
.head {
  display: flex;
  position: sticky;
  top: 0;
  z-index: 3;
  height: 30px;
  background: var(--head);
  font-weight: 600;
  border-bottom: 1px solid var(--line);
}
.head .cell {
  line-height: 30px;
  background: var(--head);
}
.row {
  display: flex;
  position: absolute;
  height: 28px;
}
.cell {
  box-sizing: border-box;
  flex: none;
  padding: 0 6px;
  line-height: 27px;
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
  border-right: 1px solid var(--line);
  border-bottom: 1px solid var(--line);
  position: relative;
  background: var(--card);
}
.number {
  position: sticky;
  left: 0;
  z-index: 2;
  text-align: right;
  color: var(--faint);
  background: var(--head);
}
.fixed {
  position: sticky;
  left: 44px;
  z-index: 2;
  font-weight: 600;
}
.code {
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 12px;
}
.in {
  background: color-mix(in srgb, #c65a2e 13%, var(--card));
}
.active {
  outline: 2px solid #c65a2e;
  outline-offset: -2px;
}
.unfit {
  background: repeating-linear-gradient(-45deg, var(--card), var(--card) 5px, var(--hover) 5px, var(--hover) 7px);
}
.waiting {
  color: var(--faint);
  font-style: italic;
}
/* A finding is told by a corner mark as well as by the list of findings. */
.stops::after,
.warning::after,
.hint::after {
  content: '';
  position: absolute;
  top: 0;
  right: 0;
  border: 5px solid;
  border-color: var(--bad) var(--bad) transparent transparent;
}
.warning::after {
  border-color: var(--warn) var(--warn) transparent transparent;
}
.hint::after {
  border-width: 3px;
  border-color: var(--busy) var(--busy) transparent transparent;
}
input {
  width: 100%;
  height: 100%;
  box-sizing: border-box;
  border: 0;
  padding: 0;
  margin: 0;
  font: inherit;
  background: var(--card);
  color: inherit;
  outline: none;
}
</style>
