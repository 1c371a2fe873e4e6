// Parts of the component library that leave without a name, or without the keyboard, what is
// used by it: a choice says what it chooses and whether it is open, tabs are turned with the
// arrows (ARIA 1.2, combobox, tablist), a table can be scrolled.

import { NDataTable, NSelect, NTabs } from 'naive-ui'
import type { SelectProps } from 'naive-ui'
import { defineComponent, h, ref } from 'vue'
import type { VNode } from 'vue'

const inside = (node: VNode, at: string) => (node.el as Element).querySelectorAll<HTMLElement>(at)

/** A list to choose from, with the name that it is called by. */
export const Choice = defineComponent({
  inheritAttrs: false,
  props: { name: { type: String, required: true } },
  setup(props, { attrs }) {
    const open = ref(false)
    const tell = (node: VNode) => {
      for (const e of inside(node, 'input, [tabindex="0"]')) {
        e.setAttribute('role', 'combobox')
        e.setAttribute('aria-label', props.name)
        e.setAttribute('aria-haspopup', 'listbox')
        e.setAttribute('aria-expanded', String(open.value))
      }
    }
    return () =>
      h(NSelect, {
        ...attrs,
        'data-open': open.value,
        'onUpdate:show': (now: boolean) => (open.value = now),
        onVnodeMounted: tell,
        onVnodeUpdated: tell,
      })
  },
}) as unknown as new () => { $props: SelectProps & { name: string }; $slots: InstanceType<typeof NSelect>['$slots'] }

/** A table whose rows can be reached by keyboard where they do not all fit. */
export const Table = defineComponent({
  inheritAttrs: false,
  setup(_, { attrs, slots }) {
    const tell = (node: VNode) => {
      for (const e of inside(node, '.v-vl, .n-data-table-base-table-body .n-scrollbar-container'))
        e.setAttribute('tabindex', '0')
    }
    return () => h(NDataTable, { ...attrs, onVnodeMounted: tell, onVnodeUpdated: tell }, slots)
  },
}) as unknown as typeof NDataTable

/** Tabs; arrow keys turn them. */
export const Tabs = defineComponent({
  inheritAttrs: false,
  setup(_, { attrs, slots }) {
    const turned = ref<unknown>()
    const tell = (node: VNode) => {
      const tabs = [...inside(node, '.n-tabs-tab')]
      tabs[0]?.closest('.n-tabs-wrapper')?.setAttribute('role', 'tablist')
      tabs.forEach((tab, i) => {
        const on = tab.classList.contains('n-tabs-tab--active')
        tab.setAttribute('role', 'tab')
        tab.setAttribute('aria-selected', String(on))
        tab.setAttribute('tabindex', on ? '0' : '-1')
        tab.onkeydown = (e) => {
          const step = { ArrowRight: 1, ArrowLeft: -1 }[e.key]
          const next = step && tabs[(i + step + tabs.length) % tabs.length]
          if (!next) return
          e.preventDefault()
          next.click()
          next.focus()
        }
      })
    }
    return () =>
      h(
        NTabs,
        {
          ...attrs,
          'data-turned': turned.value,
          'onUpdate:value': [attrs['onUpdate:value'], (to: unknown) => (turned.value = to)].flat().filter(Boolean),
          onVnodeMounted: tell,
          onVnodeUpdated: tell,
        } as object,
        slots,
      )
  },
}) as unknown as typeof NTabs
