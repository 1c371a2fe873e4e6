<script setup lang="ts">
import { useNow } from '@vueuse/core'
import { NButton, NCheckbox, NEmpty, NInput, NProgress, useDialog, useMessage } from 'naive-ui'
import { computed, h, ref, watch } from 'vue'
import type { HandList, HandTask } from '../api'
import { siteCall } from '../api'
import { clock, plural, searched } from '../format'
import { useSession } from '../stores/session'
import { useWork } from '../stores/work'
import { Choice } from '../components/choice'

// What persons have to do at devices, in walking order: who is at it, and how long is left.
const session = useSession()
const work = useWork()
const message = useMessage()
const dialog = useDialog()
const now = useNow({ interval: 500 })
const list = ref<HandList>({ tasks: [], accepted: [] })
const read = ref(false)
const search = ref('')
const whose = ref('all')
const order = ref('walk')
const selected = ref<string[]>([])
const choices = [
  { label: 'Everybody’s', value: 'all' },
  { label: 'Nobody is at it', value: 'free' },
  { label: 'Mine', value: 'mine' },
]
const orders = [
  { label: 'As one walks', value: 'walk' },
  { label: 'Waiting longest', value: 'since' },
  { label: 'Least time left', value: 'left' },
]

// The service tells of each device that moves on; the list is asked for once for many.
let asking = false
let again = false
async function load() {
  if (asking) {
    again = true
    return
  }
  asking = true
  do {
    again = false
    const told = await siteCall('get', '/hands').catch((e: Error) => void message.error(e.message))
    if (told) list.value = told
    read.value = true
  } while (again)
  asking = false
  const open = new Set(list.value.tasks.filter((t) => t.open).map((t) => t.tag))
  selected.value = selected.value.filter((tag) => open.has(tag))
}
watch([() => work.steps, () => work.runs], load, { immediate: true })

const secondsLeft = (t: HandTask) => (new Date(t.windowEnds ?? 0).getTime() - now.value.getTime()) / 1000
const text = (t: HandTask) =>
  [t.tag, t.area, t.floor, t.place, t.model, t.mac, t.serial, t.do, t.look, t.terms, t.who].join(' ')
const shown = computed(() => {
  const has = searched(search.value)
  const rows = list.value.tasks.filter(
    (t) =>
      (t.open || secondsLeft(t) > 0) &&
      has(text(t)) &&
      (whose.value === 'all' || (t.open && (whose.value === 'mine' ? t.who === session.user : !t.who))),
  )
  if (order.value === 'since') rows.sort((a, b) => (a.since ?? '').localeCompare(b.since ?? ''))
  if (order.value === 'left') rows.sort((a, b) => Number(a.open) - Number(b.open) || secondsLeft(a) - secondsLeft(b))
  return rows
})
const open = computed(() => list.value.tasks.filter((t) => t.open))
const where = (t: HandTask) => [t.area, t.floor && `floor ${t.floor}`].filter(Boolean).join(', ') || 'no area given'
/** Whether a task begins another place than the one before it. */
const heading = (i: number) => {
  const [before, now] = [shown.value[i - 1], shown.value[i]]
  return order.value === 'walk' && now && (!before || where(before) !== where(now)) ? where(now) : ''
}
const minutes = (s: number) => {
  const whole = Math.max(0, Math.ceil(s))
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, '0')}`
}
const share = (t: HandTask) => (t.within ? Math.max(0, Math.min(100, (100 * secondsLeft(t)) / t.within)) : 0)

async function each(tags: string[], call: (run: number, tags: string[]) => Promise<unknown>) {
  const runs = new Map<number, string[]>()
  for (const t of open.value) if (tags.includes(t.tag)) runs.set(t.run, [...(runs.get(t.run) ?? []), t.tag])
  try {
    for (const [run, of] of runs) await call(run, of)
    selected.value = selected.value.filter((tag) => !tags.includes(tag))
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  }
  await load()
}
const take = (tags: string[], drop: boolean) =>
  each(tags, (run, of) => siteCall('post', '/runs/{id}/hands/take', { path: { id: run }, body: { tags: of, drop } }))
const did = (tags: string[]) =>
  each(tags, (run, of) => siteCall('post', '/runs/{id}/hands', { path: { id: run }, body: { tags: of } }))
const without = (t: HandTask) =>
  dialog.warning({
    title: 'Go on without it?',
    content: `${t.tag}: ${t.do}. It stays undone: its run goes on, and verification tells what is missing.`,
    positiveText: 'Go on without it',
    negativeText: 'Wait for it',
    positiveButtonProps: { 'data-test': 'hand-without-sure' } as object,
    onPositiveClick: () =>
      each([t.tag], (run, of) =>
        siteCall('post', '/runs/{id}/hands', { path: { id: run }, body: { tags: of, without: true } }),
      ),
  })
const accept = (t: HandTask) =>
  dialog.warning({
    title: 'Accept these terms?',
    content: () =>
      h('div', [
        h('p', [h('strong', t.terms)]),
        h(
          'p',
          `Read them at the device or its page first. You accept them as ${session.user}, for all ${t.model} of this site. Your name and the time are kept, and told to the device.`,
        ),
      ]),
    positiveText: `Accept as ${session.user}`,
    negativeText: 'Not now',
    positiveButtonProps: { 'data-test': 'terms-accept' } as object,
    onPositiveClick: () =>
      each([t.tag], (run, of) =>
        siteCall('post', '/runs/{id}/hands', { path: { id: run }, body: { tags: of, accept: true } }),
      ),
  })
const plain = computed(() => open.value.filter((t) => selected.value.includes(t.tag) && !t.terms).map((t) => t.tag))
const pick = (tag: string, on: boolean) =>
  (selected.value = on ? [...selected.value, tag] : selected.value.filter((t) => t !== tag))
const pickable = computed(() => shown.value.filter((t) => t.open).map((t) => t.tag))
</script>

<template>
  <div class="page">
    <div class="bar">
      <strong data-test="hands-count">{{
        open.length ? `${plural(open.length, 'device')} ${open.length === 1 ? 'waits' : 'wait'} for a hand` : 'By hand'
      }}</strong>
      <NInput
        v-model:value="search"
        size="small"
        placeholder="Search"
        clearable
        class="search"
        :input-props="{ 'aria-label': 'Search what is to be done' }" />
      <Choice v-model:value="whose" size="small" :options="choices" class="choice" name="Whose" />
      <Choice v-model:value="order" size="small" :options="orders" class="choice" name="Order" />
    </div>
    <div v-if="pickable.length && session.mayCommission" class="bar">
      <NCheckbox
        :checked="selected.length > 0 && selected.length === pickable.length"
        :indeterminate="selected.length > 0 && selected.length < pickable.length"
        data-test="hands-all"
        @update:checked="(on: boolean) => (selected = on ? pickable : [])"
        >{{ selected.length ? `${selected.length} chosen` : 'All' }}</NCheckbox
      >
      <template v-if="selected.length">
        <NButton size="small" data-test="hands-take" @click="take(selected, false)">I am at these</NButton>
        <NButton size="small" @click="take(selected, true)">Nobody is</NButton>
        <NButton size="small" type="primary" :disabled="!plain.length" data-test="hands-done" @click="did(plain)"
          >Done: {{ plain.length }}</NButton
        >
      </template>
    </div>
    <NEmpty
      v-if="read && !shown.length"
      class="none"
      :description="
        list.tasks.length
          ? 'Nothing fits the search.'
          : 'Nothing waits for a hand. When a run comes to something that only a person can do, it stands here.'
      " />
    <ul class="tasks" aria-label="What is to be done by hand">
      <template v-for="(t, i) in shown" :key="t.tag">
        <li v-if="heading(i)" class="where">{{ heading(i) }}</li>
        <li class="task" :class="{ running: !t.open }" data-test="hand-task">
          <NCheckbox
            v-if="t.open && session.mayCommission"
            :checked="selected.includes(t.tag)"
            :aria-label="`Choose ${t.tag}`"
            @update:checked="(on: boolean) => pick(t.tag, on)" />
          <div class="what">
            <div>
              <strong>{{ t.tag }}</strong> {{ t.place }}
              <span class="faint">{{ t.model }}{{ t.serial ? `, ${t.serial}` : '' }}, {{ t.mac }}</span>
            </div>
            <div class="do">
              {{ t.do }}<template v-if="t.terms">, and accept them: {{ t.terms }}</template>
            </div>
            <div v-if="t.look" class="faint">Then: {{ t.look }}.</div>
            <div v-if="!t.open" class="window" data-test="hand-window">
              Done. {{ minutes(secondsLeft(t)) }} left for what follows: {{ t.step }}
              <NProgress
                type="line"
                :percentage="share(t)"
                :show-indicator="false"
                :height="6"
                :status="share(t) < 20 ? 'error' : share(t) < 50 ? 'warning' : 'success'" />
            </div>
            <div v-else class="faint">
              Waits since {{ clock(t.since)
              }}<template v-if="t.within">; once it is done, {{ minutes(t.within) }} for what follows</template>.
            </div>
          </div>
          <div v-if="t.open" class="deeds">
            <span v-if="t.who" class="who" data-test="hand-who"
              >{{ t.who === session.user ? 'You are' : `${t.who} is` }} at it</span
            >
            <template v-if="session.mayCommission">
              <NButton size="small" data-test="hand-take" @click="take([t.tag], t.who === session.user)">{{
                t.who === session.user ? 'Not any more' : 'I am at it'
              }}</NButton>
              <NButton v-if="t.terms" size="small" type="primary" data-test="hand-accept" @click="accept(t)"
                >Accept…</NButton
              >
              <template v-else>
                <NButton size="small" quaternary data-test="hand-without" @click="without(t)"
                  >It cannot be done…</NButton
                >
                <NButton size="small" type="primary" data-test="hand-done" @click="did([t.tag])">Done</NButton>
              </template>
            </template>
          </div>
        </li>
      </template>
    </ul>
    <section v-if="list.accepted.length" class="accepted" aria-label="Terms accepted">
      <h2>Terms accepted for this site</h2>
      <p v-for="a in list.accepted" :key="a.profile + a.terms">
        {{ a.terms }}: by <strong>{{ a.who }}</strong>, {{ clock(a.at) }}
      </p>
    </section>
  </div>
</template>

<style scoped src="./hands.css"></style>
