// Changes of the plan from its sheet: shown at once, taken by the service in turn, and undone.

import { useMessage } from 'naive-ui'
import { computed, ref, shallowRef, watch } from 'vue'
import type { Patch, Revision } from '../api'
import { siteCall } from '../api'
import { usePlan } from '../stores/plan'
import { useSite } from '../stores/site'

export function useChanges() {
  const site = useSite()
  const plan = usePlan()
  const message = useMessage()

  // What was typed is shown at once, and until the service has taken it.
  const pending = shallowRef(new Map<string, string>())
  watch(
    () => plan.entries,
    () => (pending.value = new Map()),
  )

  async function change(patches: Patch[], what: string) {
    if (!patches.length) return
    const next = new Map(pending.value)
    for (const p of patches)
      for (const [key, value] of Object.entries(p.set ?? {})) if (p.tag) next.set(p.tag + '\n' + key, value)
    pending.value = next
    const done = siteCall('patch', '/entries', { body: { what, patches, configured: false } }).then(plan.settle)
    settled = Promise.allSettled([settled, done])
    try {
      await done
    } catch (e) {
      pending.value = new Map()
      message.error(
        (e as Error).message +
          ((e as { cells?: { column?: string; value?: string; reason: string }[] }).cells ?? [])
            .map((c) => ` ${c.column ?? ''} ${c.value ?? ''}: ${c.reason}.`)
            .join(''),
        { duration: 9000, closable: true },
      )
    }
  }

  // The next step back and forward, of whoever made it. A step waits until what was
  // done before is done, and known: it is about that.
  let settled: Promise<unknown> = Promise.resolve()
  const revisions = ref<Revision[]>([])
  async function readRevisions() {
    const { revision } = plan
    const { key } = site
    const list = key ? await siteCall('get', '/revisions').catch(() => []) : []
    if (revision === plan.revision && key === site.key) revisions.value = list
  }
  watch(() => [plan.revision, site.key], readRevisions, { immediate: true })
  async function step(way: 'undo' | 'redo') {
    await readRevisions()
    const r = revisions.value.find((x) => x.may === way)
    if (!r) return
    try {
      await siteCall('post', way === 'undo' ? '/revisions/{revision}/undo' : '/revisions/{revision}/redo', {
        path: { revision: String(r.id) },
      })
      await plan.settle()
    } catch (e) {
      message.error((e as Error).message, { duration: 9000, closable: true })
    }
  }
  const back = computed(() => revisions.value.find((r) => r.may === 'undo'))
  const forward = computed(() => revisions.value.find((r) => r.may === 'redo'))
  const inTurn = (way: 'undo' | 'redo') => (settled = settled.then(() => step(way)))
  const undo = () => inTurn('undo')
  const redo = () => inTurn('redo')

  return { pending, change, back, forward, undo, redo }
}
