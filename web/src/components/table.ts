// The library's table cannot be scrolled by keyboard; this one can.

import { NDataTable } from 'naive-ui'
import { defineComponent, h } from 'vue'
import type { VNode } from 'vue'

/** A table whose rows can be reached by keyboard where they do not all fit. */
export const Table = defineComponent({
  inheritAttrs: false,
  setup(_, { attrs, slots }) {
    const tell = (node: VNode) => {
      for (const e of (node.el as Element).querySelectorAll<HTMLElement>(
        '.v-vl, .n-data-table-base-table-body .n-scrollbar-container',
      ))
        e.setAttribute('tabindex', '0')
    }
    return () => h(NDataTable, { ...attrs, onVnodeMounted: tell, onVnodeUpdated: tell }, slots)
  },
}) as unknown as typeof NDataTable
