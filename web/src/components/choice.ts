// The library's choice has no name where the keyboard is; this one says what it chooses, and whether
// it is open (ARIA 1.2, combobox).

import { NSelect } from 'naive-ui'
import type { SelectProps } from 'naive-ui'
import { defineComponent, h, ref } from 'vue'
import type { VNode } from 'vue'

/** A list to choose from, with the name that it is called by. */
export const Choice = defineComponent({
  inheritAttrs: false,
  props: { name: { type: String, required: true } },
  setup(props, { attrs }) {
    const open = ref(false)
    const tell = (node: VNode) => {
      for (const e of (node.el as Element).querySelectorAll<HTMLElement>('input, [tabindex="0"]')) {
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
