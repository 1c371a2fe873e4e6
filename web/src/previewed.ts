// A change of the plan that is shown before it is made, again whenever what is
// asked for changes.

import type { Ref } from 'vue'
import { ref, watch } from 'vue'
import type { Edited } from './api'

export function usePreview(
  asks: (preview: boolean) => Promise<Edited>,
  body: () => unknown,
  show: Ref<boolean>,
  ready: () => boolean,
  done: (out: Edited) => void,
) {
  const preview = ref<Edited | null>(null)
  const wrong = ref('')

  async function send(onlyPreview: boolean) {
    try {
      const out = await asks(onlyPreview)
      wrong.value = out.complaints[0]?.reason ?? ''
      if (onlyPreview) preview.value = out
      else {
        done(out)
        show.value = false
      }
    } catch (e) {
      wrong.value = (e as Error).message
    }
  }

  let timer: ReturnType<typeof setTimeout> | undefined
  watch([() => JSON.stringify(body()), show], () => {
    clearTimeout(timer)
    preview.value = null
    wrong.value = ''
    if (show.value && ready()) timer = setTimeout(() => void send(true), 200)
  })
  return { preview, wrong, apply: () => send(false) }
}
