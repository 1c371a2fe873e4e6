// What a cell of the plan shows and may hold.

import { computed } from 'vue'
import type { Entry, Patch, PlanFinding } from '../api'
import { isSecret, valueOf } from '../api'
import { usePlan } from '../stores/plan'
import { useSite } from '../stores/site'
import type { Column } from './columns'
import { inShort, settingOf } from './columns'

export function useCells(props: { pending: Map<string, string> }) {
  const site = useSite()
  const plan = usePlan()

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
  const fallback = (e: Entry | null, c: Column) =>
    e && c.setting && !valueOf(e, c.key) ? (settingOf(site.byId.get(e.profile), c.key)?.default ?? '') : ''

  /** What may be chosen in a cell; nothing where it is free text. */
  function choicesFor(e: Entry | null, c: Column | undefined): string[] {
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

  return { findings, findingAt, shownValue, usable, fallback, choicesFor, patchFor }
}
