<script setup lang="ts" generic="T extends object">
import { NCheckbox } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { computed, h } from 'vue'
import { Table } from './table'

// A list whose rows can be chosen for an act on many; only the rows in view are drawn.
const props = withDefaults(
  defineProps<{
    columns: DataTableColumns<T>
    data: T[]
    rowKey: (row: T) => string
    /** What a row is called by who chooses it, if not by its key. */
    rowName?: (row: T) => string
    /** In a narrow window it is as high as said, in pixels; else it fills its place. */
    narrow?: boolean
    height?: number
    /** How wide it is before it scrolls sideways, in pixels. */
    wide?: number
    /** Keys of the rows that show what hangs below them. */
    opened?: string[]
    rowClass?: (row: T) => string
  }>(),
  { height: 420, rowName: undefined, wide: undefined, opened: undefined, rowClass: undefined },
)
const chosen = defineModel<string[]>('chosen', { required: true })
const has = computed(() => new Set(chosen.value))

/** Every row that may be chosen, with those below others. */
function choosable(rows: T[], disabled?: (row: T) => boolean): string[] {
  return rows.flatMap((r) => [
    ...(disabled?.(r) ? [] : [props.rowKey(r)]),
    ...choosable((r as { children?: T[] }).children ?? [], disabled),
  ])
}

// The library's own boxes have no name: whoever hears the page would not know what is chosen.
const named = computed<DataTableColumns<T>>(() =>
  props.columns.map((c, i) => {
    // What hangs below a row is opened beside its name, not in the column of boxes.
    if (c.type !== 'selection') return i === 1 && 'key' in c ? { ...c, tree: true } : c
    const all = choosable(props.data, c.disabled)
    const on = all.filter((key) => has.value.has(key)).length
    const box = (name: string, checked: boolean, update: (on: boolean) => void, disabled = false, some = false) =>
      h(NCheckbox, {
        checked,
        disabled,
        indeterminate: some,
        'aria-label': name,
        'aria-labelledby': null,
        'onUpdate:checked': update,
      })
    return {
      key: 'chosen',
      width: c.width,
      fixed: c.fixed,
      className: 'choose',
      title: () =>
        box(
          'Select all',
          all.length > 0 && on === all.length,
          (yes) => (chosen.value = yes ? all : []),
          !all.length,
          on > 0 && on < all.length,
        ),
      render: (row: T) => {
        const key = props.rowKey(row)
        return box(
          'Select ' + (props.rowName ?? props.rowKey)(row),
          has.value.has(key),
          (yes) => (chosen.value = yes ? [...chosen.value, key] : chosen.value.filter((k) => k !== key)),
          !!c.disabled?.(row),
        )
      },
    }
  }),
)
</script>

<template>
  <Table
    :columns="named"
    :data="data"
    :row-key="rowKey"
    :expanded-row-keys="opened"
    :row-class-name="rowClass"
    size="small"
    :bordered="false"
    virtual-scroll
    :max-height="narrow ? height : undefined"
    :scroll-x="narrow ? undefined : wide"
    :flex-height="!narrow"
    :min-row-height="31" />
</template>
