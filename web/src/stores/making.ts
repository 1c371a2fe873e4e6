import { defineStore } from 'pinia'
import { computed, ref, watch } from 'vue'
import { Problem, siteCall, siteURL } from '../api'
import type { Bodies, Work } from '../api'
import { useSite } from './site'
import { useWork } from './work'

/** What the service is making, and what came of it. */
export const useMaking = defineStore('making', () => {
  const site = useSite()
  const work = useWork()
  const wrong = ref('')
  const said = ref('')
  const busy = ref('') // the button whose document is being made
  const preview = ref<{ title: string; work: number }>()
  const under = computed(() =>
    work.works.filter((w) => w.kind === 'make a document' && w.state === 'running' && w.site === site.key),
  )

  /** Does something that nobody asked for by a button; what was said stays. */
  async function load<T>(what: () => Promise<T>): Promise<T | undefined> {
    try {
      return await what()
    } catch (e) {
      wrong.value = e instanceof Problem ? e.message : 'The service does not answer; check that it is running.'
    }
  }

  /** Has something done that a button asks for, and says in words what went wrong. */
  async function attempt<T>(button: string, what: () => Promise<T>): Promise<T | undefined> {
    wrong.value = said.value = ''
    busy.value = button
    const done = await load(what)
    busy.value = ''
    return done
  }

  function over(id: number): Promise<Work> {
    return new Promise((resolve) => {
      const stop = watch(
        () => work.works.find((w) => w.id === id && w.state !== 'running'),
        (ended) => {
          if (!ended) return
          resolve(ended)
          queueMicrotask(() => stop())
        },
        { immediate: true },
      )
    })
  }

  async function make(what: Bodies['ToMake'], to = ''): Promise<Work> {
    const begun = await (to
      ? siteCall('post', '/handovers', { body: { ...what, to } })
      : siteCall('post', '/makings', { body: what }))
    const ended = await over(begun.id)
    if (ended.state === 'stopped') throw new Problem(409, 'it was stopped before it was made')
    if (ended.state !== 'done') throw new Problem(409, ended.text)
    return ended
  }

  /** Makes a document and saves it; for somebody where it is said for whom. */
  const save = (button: string, what: Bodies['ToMake'], to = '') =>
    attempt(button, async () => {
      const w = await make(what, to)
      keep(madePath(w.id), w.file ?? '')
      return w
    })

  /** Makes a document and shows it. */
  const look = (button: string, title: string, what: Bodies['ToMake']) =>
    attempt(button, async () => {
      preview.value = { title, work: (await make(what)).id }
    })

  const madePath = (work: number, member = '') =>
    siteURL(`makings/${work}`) + (member && '?member=' + encodeURIComponent(member))

  function keep(path: string, name: string) {
    const link = document.createElement('a')
    link.href = path
    link.download = name
    link.click()
    said.value = `${name} is made.`
  }

  /** Saves what is not made in the background: it holds logins, or all of a site. */
  const fetchFile = (button: string, name: string, file: () => Promise<Blob>) =>
    attempt(button, async () => {
      const url = URL.createObjectURL(await file())
      keep(url, name)
      URL.revokeObjectURL(url)
      return true
    })

  return { wrong, said, busy, preview, under, load, attempt, save, look, madePath, keep, fetchFile }
})
