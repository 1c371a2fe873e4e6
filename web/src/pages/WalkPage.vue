<script setup lang="ts">
import { useNow } from '@vueuse/core'
import { NAlert, NButton } from 'naive-ui'
import { computed, onMounted, ref, watch } from 'vue'
import { siteCall } from '../api'
import type { Device, Entry, Presence, Scanned } from '../api'
import ScanField from '../components/ScanField.vue'
import { latest, modelOf, placeOf } from '../device'
import { plural } from '../format'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import { Choice } from '../components/choice'

// On foot: choose the entry in front of you, plug its box in, and say that the
// newcomer is it. Everything is within the reach of one thumb.
const session = useSession()
const site = useSite()
const plan = usePlan()
const segment = useSegment()
const tag = ref('')
const since = ref(0) // when the entry was chosen
const wrong = ref('')
const good = ref('')
const skipped = ref<string[]>([]) // newcomers that it was not
const blinked = ref('')
const now = useNow({ interval: 1000 })

const open = computed(() => plan.entries.filter((e) => !e.device && !e.notWired && !e.behind))
// Sensors and the like: their cards are read one after another, in walking order.
const cards = ref(false)
const joins = (e: Entry) =>
  !!e.behind && site.profiles.some((p) => p.id === e.profile && p.settings?.some((s) => s.key === 'join-eui'))
const sensors = computed(() => plan.entries.filter(joins))
const without = computed(() => sensors.value.filter((e) => !e.part).length)
const read = ref<string[]>([]) // tags, the latest first
const options = computed(() => open.value.map((e) => ({ label: `${e.tag}  ${e.place ?? ''}`, value: e.tag })))
const entry = computed<Entry | undefined>(() => plan.entries.find((e) => e.tag === tag.value))
const fits = (d: Device) =>
  !d.tag && (!entry.value || d.profile === entry.value.profile || !!d.maybe?.includes(entry.value.profile))
// Who came since the entry was chosen, the latest first.
const came = computed(() =>
  segment.arrivals.filter((a: Presence) => Date.parse(a.at) >= since.value && !skipped.value.includes(a.device.mac)),
)
// An arrival may have told nothing of itself yet: what is known now counts.
const known = (d: Device) => segment.devices.find((x) => x.mac === d.mac) ?? d
const newcomer = computed(() => came.value.map((a) => known(a.device)).find(fits))
const others = computed(() => came.value.map((a) => known(a.device)).filter((d) => !fits(d)))
const waited = computed(() => (since.value ? Math.max(0, Math.floor((now.value.getTime() - since.value) / 1000)) : 0))
const left = computed(() => open.value.length)

async function attempt(what: () => Promise<unknown>) {
  wrong.value = ''
  try {
    await what()
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
onMounted(() =>
  attempt(async () => {
    if (session.mayCommission && segment.name && !segment.watched)
      await siteCall('put', '/watch', { body: { on: true } })
  }),
)
watch(
  () => segment.name,
  (s) => {
    if (s && !segment.watched && session.mayCommission)
      void attempt(() => siteCall('put', '/watch', { body: { on: true } }))
  },
)

function choose(next: string) {
  tag.value = next
  since.value = Date.now()
  skipped.value = []
  blinked.value = ''
  wrong.value = ''
}
function done(text: string) {
  good.value = text
  const here = open.value.findIndex((e) => e.tag === tag.value)
  const rest = open.value.filter((e) => e.tag !== tag.value)
  choose(rest[Math.max(0, Math.min(here, rest.length - 1))]?.tag ?? '')
  void plan.settle()
}
const take = (d: Device) =>
  attempt(async () => {
    await siteCall('put', '/entries/{tag}/match', { path: { tag: tag.value }, body: { mac: d.mac, arrival: true } })
    done(`${tag.value} is ${d.mac}.`)
  })
const blink = (d: Device) =>
  attempt(async () => {
    await siteCall('post', '/devices/{mac}/blink', { path: { mac: d.mac } })
    blinked.value = d.mac
  })
function scanned(out: Scanned) {
  if (out.outcome === 'card') {
    wrong.value = ''
    good.value = out.text + '.'
    read.value = [out.tag, ...read.value.filter((t) => t !== out.tag)]
    void plan.settle()
    return
  }
  if (out.outcome === 'entry') choose(out.tag)
  else if (out.outcome === 'matched' || out.outcome === 'noted') done(out.text + '.')
  else wrong.value = out.text + '.'
}
</script>

<template>
  <div class="walk">
    <NAlert v-if="!segment.name" type="warning" :show-icon="false"
      >The service is not plugged into a segment, so nobody can arrive.</NAlert
    >
    <p class="top">
      <strong>{{ left ? plural(left, 'entry') + ' without a box' : 'Every entry has its box.' }}</strong><span
        class="faint"
        >{{ segment.watched ? '● watching' : '○ not watching' }}</span
      >
    </p>
    <p v-if="good" class="good" role="status" data-test="walk-good">✓ {{ good }}</p>
    <div v-if="sensors.length && session.mayCommission" class="switch">
      <NButton size="small" :type="cards ? 'primary' : 'default'" data-test="cards" @click="cards = !cards">{{
        cards ? 'Back to boxes' : `Read cards: ${without} of ${sensors.length} to go`
      }}</NButton>
    </div>
    <div v-if="cards" class="middle" data-test="cards-list">
      <p class="card">
        <strong>{{ without ? plural(without, 'card') + ' to go' : 'Every sensor has its card.' }}</strong> Scan one card
        after another: each is that of the next sensor. Put it to the sensor that is named.
      </p>
      <table class="list">
        <tbody>
          <tr v-for="e in sensors" :key="e.tag" :class="{ latest: e.tag === read[0] }">
            <td>{{ e.part ? '✓' : '·' }}</td>
            <td>
              <strong>{{ e.tag }}</strong>
            </td>
            <td>{{ e.place }}</td>
            <td class="mono">{{ e.part || 'no card yet' }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <div v-else class="middle">
      <template v-if="entry && !entry.device">
        <h2>{{ entry.tag }}</h2>
        <p>
          {{
            [
              entry.place,
              entry.floor && 'floor ' + entry.floor,
              entry.profile,
              entry.switchPort && 'port ' + entry.switchPort,
            ]
              .filter(Boolean)
              .join(', ')
          }}
        </p>
        <div v-if="newcomer" class="card" data-test="newcomer">
          <p><strong>This one came:</strong></p>
          <p class="mono big">{{ newcomer.mac }}</p>
          <p>
            {{ modelOf(newcomer) }}, {{ placeOf(newcomer)
            }}{{ latest(newcomer, 'serial') ? ', serial ' + latest(newcomer, 'serial') : '' }}
          </p>
          <p v-if="blinked === newcomer.mac" class="good">It blinks now. Is it the one in front of you?</p>
        </div>
        <div v-else class="card" data-test="waiting">
          <p>
            <strong>Plug the box in, or switch it off and on.</strong> <span class="faint">{{ waited }} s</span>
          </p>
          <p v-if="others.length" class="faint">
            {{ plural(others.length, 'other') }} came that {{ others.length === 1 ? 'is' : 'are' }} no
            {{ entry.profile }}:
            {{
              others
                .slice(0, 2)
                .map((d) => `${d.mac} ${modelOf(d)}`)
                .join(', ')
            }}
          </p>
          <ul v-if="waited >= 15" data-test="walk-help">
            <li>Do its lights burn? If not: power, or the cable from the power sourcing switch.</li>
            <li>Does the port's light burn at both ends? If not: the cable, or a port that is switched off.</li>
            <li>Some boxes need a minute after power-up before they say anything.</li>
            <li>Is the switch it hangs on part of this segment, and in the same VLAN?</li>
            <li>Else scan its label below: it is matched as soon as it is found.</li>
          </ul>
        </div>
      </template>
      <p v-else-if="left" class="card">Choose the entry in front of you, or scan its tag.</p>
    </div>
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <div class="thumb">
      <template v-if="!cards && newcomer && entry && !entry.device">
        <NButton size="large" type="primary" block data-test="walk-take" @click="take(newcomer)"
          >It is {{ entry.tag }}</NButton
        >
        <div class="two">
          <NButton
            size="large"
            :disabled="!newcomer.blinks || segment.lookOnly"
            data-test="walk-blink"
            @click="blink(newcomer)"
            >Blink to be sure</NButton
          >
          <NButton size="large" data-test="walk-not" @click="skipped = [...skipped, newcomer.mac]"
            >Not this one</NButton
          >
        </div>
      </template>
      <Choice
        name="Choose the entry"
        v-if="!cards"
        :value="tag || null"
        filterable
        size="large"
        :options="options"
        placeholder="Choose the entry"
        placement="top"
        data-test="walk-entry"
        @update:value="choose" />
      <ScanField camera :cards="cards" :tag="cards ? '' : tag" @scanned="scanned" @refused="wrong = $event" />
    </div>
  </div>
</template>

<style scoped>
.walk {
  height: 100%;
  max-width: 560px;
  margin: 0 auto;
  box-sizing: border-box;
  padding: 10px;
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.top {
  display: flex;
  justify-content: space-between;
  margin: 0;
}
.middle {
  flex: 1;
  overflow: auto;
  min-height: 120px;
}
h2 {
  margin: 4px 0;
  font-size: 26px;
}
.middle p {
  margin: 4px 0;
}
.card {
  margin-top: 10px;
  padding: 10px 12px;
  background: var(--card);
  border: 1px solid var(--line);
  border-radius: 6px;
}
.list {
  width: 100%;
  margin-top: 8px;
  border-collapse: collapse;
}
.list td {
  padding: 5px 4px;
  border-bottom: 1px solid var(--line);
}
.latest {
  background: var(--card);
}
.big {
  font-size: 20px;
}
.good {
  color: var(--ok);
  font-weight: 600;
  margin: 0;
}
.thumb {
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding-bottom: env(safe-area-inset-bottom);
}
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
</style>
