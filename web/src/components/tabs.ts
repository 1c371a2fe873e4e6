// The library's tabs cannot be reached by keyboard; arrow keys turn these (ARIA 1.2, tablist).

import { NTabs } from 'naive-ui'
import { defineComponent, h, ref } from 'vue'
import type { VNode } from 'vue'

/** Tabs; arrow keys turn them. */
export const Tabs = defineComponent({
  inheritAttrs: false,
  setup(_, { attrs, slots }) {
    const turned = ref<unknown>()
    const tell = (node: VNode) => {
      const tabs = [...(node.el as Element).querySelectorAll<HTMLElement>('.n-tabs-tab')]
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
