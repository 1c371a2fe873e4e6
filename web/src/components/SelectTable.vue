<script setup lang="ts" generic="T extends object">
import { NDataTable } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'

// A list whose rows can be chosen for an act on many; only the rows in view are drawn.
withDefaults(
  defineProps<{
    columns: DataTableColumns<T>
    data: T[]
    rowKey: (row: T) => string
    /** In a narrow window it is as high as said, in pixels; else it fills its place. */
    narrow?: boolean
    height?: number
    /** How wide it is before it scrolls sideways, in pixels. */
    wide?: number
    /** Keys of the rows that show what hangs below them. */
    opened?: string[]
    rowClass?: (row: T) => string
  }>(),
  { height: 420, wide: undefined, opened: undefined, rowClass: undefined },
)
const chosen = defineModel<string[]>('chosen', { required: true })
</script>

<template>
  <NDataTable
    :checked-row-keys="chosen"
    :columns="columns"
    :data="data"
    :row-key="rowKey"
    :expanded-row-keys="opened"
    :cascade="false"
    :row-class-name="rowClass"
    size="small"
    :bordered="false"
    virtual-scroll
    :max-height="narrow ? height : undefined"
    :scroll-x="narrow ? undefined : wide"
    :flex-height="!narrow"
    :min-row-height="31"
    @update:checked-row-keys="(keys) => (chosen = keys as string[])" />
</template>
