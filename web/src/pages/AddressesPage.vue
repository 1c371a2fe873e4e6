<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { NButton, NInput, NRadioButton, NRadioGroup, useMessage } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import type { AddressMap, MapCell } from '../api'
import { call, siteCall } from '../api'
import { plural } from '../format'
import { usePlan } from '../stores/plan'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import { Choice } from '../components/choice'
import { Table } from '../components/table'

// A subnet, one cell per address. A block of 256 is a square; large subnets
// are looked at block by block. The list says the same in words.
const session = useSession()
const site = useSite()
const plan = usePlan()
const message = useMessage()
const subnet = ref('')
const view = ref<'map' | 'list'>('map')
const map = ref<AddressMap | null>(null)
const zoomed = ref<number | null>(null) // first address of the block that is drawn large
const search = ref('')
const reserve = ref('')
const options = computed(() =>
  (site.site?.subnets ?? []).map((n) => ({
    label: `${n.name}  ${n.prefix}${n.vlan ? '  VLAN ' + n.vlan : ''}`,
    value: n.name,
  })),
)
watch(
  options,
  (list) => {
    if (!list.some((o) => o.value === subnet.value)) subnet.value = list[0]?.value ?? ''
  },
  { immediate: true },
)
watch(
  [subnet, () => plan.revision, () => site.site],
  async () => {
    if (!subnet.value) return void (map.value = null)
    map.value = await siteCall('get', '/map', { query: { subnet: subnet.value } }).catch(() => null)
  },
  { immediate: true },
)
watch(subnet, () => (zoomed.value = null))

const number = (ip: string) => ip.split('.').reduce((sum, part) => sum * 256 + Number(part), 0)
const dotted = (n: number) => [24, 16, 8, 0].map((shift) => Math.floor(n / 2 ** shift) % 256).join('.')
const cells = computed(() => new Map((map.value?.cells ?? []).map((c) => [number(c.address), c])))
const blocks = computed(() => {
  const m = map.value
  if (!m) return []
  const list: { first: number; label: string; counts: Record<string, number> }[] = []
  const first = number(m.network)
  const last = number(m.broadcast)
  for (let b = first - (first % 256); b <= last && list.length < 4096; b += 256)
    list.push({ first: b, label: dotted(b).replace(/\.\d+$/, '.…'), counts: {} })
  const at = new Map(list.map((b) => [b.first, b]))
  for (const [n, c] of cells.value) {
    const b = at.get(n - (n % 256))
    if (b) b.counts[c.is] = (b.counts[c.is] ?? 0) + 1
  }
  return list
})
// Up to four blocks are drawn large at once; of more, one is chosen.
const large = computed(() =>
  zoomed.value !== null
    ? blocks.value.filter((b) => b.first === zoomed.value)
    : blocks.value.length <= 4
      ? blocks.value
      : [],
)
const inside = (n: number) => !!map.value && n >= number(map.value.network) && n <= number(map.value.broadcast)
const marks: Record<string, string> = { kept: '×', planned: '○', found: '●', conflict: '!' }
function cellOf(n: number): { is: string; text: string; cell?: MapCell } {
  const c = cells.value.get(n)
  if (c) return { is: c.is, text: `${c.address}: ${c.text}`, cell: c }
  return inside(n) ? { is: 'free', text: dotted(n) + ': free' } : { is: 'outside', text: '' }
}
const narrow = useMediaQuery('(max-width: 900px)')
const wide = computed(() => (narrow.value ? 16 : 32)) // addresses in a row
const rowOf = (first: number) => Array.from({ length: wide.value }, (_, i) => first + i)
const hand = ref<number | null>(null) // the address under the pointer or the keyboard
const said = computed(() => (hand.value === null ? '' : cellOf(hand.value).text))
function key(event: KeyboardEvent, first: number) {
  const now = hand.value ?? first
  const by = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -wide.value, ArrowDown: wide.value }[event.key]
  if (by === undefined) return
  event.preventDefault()
  if (now + by >= first && now + by < first + 256 && inside(now + by)) hand.value = now + by
}

const rows = computed(() =>
  (map.value?.cells ?? []).filter((c) =>
    `${c.address} ${c.is} ${c.text}`.toLowerCase().includes(search.value.toLowerCase()),
  ),
)
const columns: DataTableColumns<MapCell> = [
  {
    title: 'Address',
    key: 'address',
    width: 140,
    className: 'mono',
    sorter: (a, b) => number(a.address) - number(b.address),
  },
  { title: 'Is', key: 'is', width: 110, sorter: (a, b) => a.is.localeCompare(b.is) },
  { title: 'Entry', key: 'tag', width: 170 },
  { title: 'In words', key: 'text', minWidth: 180 },
]

async function keep() {
  const m = /^([\d.]+(?:\s*-\s*[\d.]+)?)\s*(.*)$/.exec(reserve.value.trim())
  if (!m || !site.site) return
  const range = (m[1] ?? '').replace(/\s/g, '')
  const subnets = (site.site.subnets ?? []).map((n) =>
    n.name === subnet.value ? { ...n, keptFree: [...(n.keptFree ?? []), { range, reason: m[2] }] } : n,
  )
  try {
    await call('put', '/sites/{site}', { path: { site: site.key }, body: { ...site.site, subnets } })
    reserve.value = ''
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  }
}
</script>

<template>
  <div class="page">
    <div class="tools">
      <Choice v-model:value="subnet" :options="options" size="small" class="choose" name="Subnet" />
      <NRadioGroup v-model:value="view" size="small"
        ><NRadioButton value="map" data-test="view-map">Map</NRadioButton
        ><NRadioButton value="list" data-test="view-list">List</NRadioButton></NRadioGroup
      >
      <NButton v-if="zoomed !== null" size="small" @click="zoomed = null">All blocks</NButton>
      <span v-if="map"
        ><strong>{{ map.free }}</strong> of {{ map.hosts }} addresses are free
        <span class="faint mono mask">mask {{ map.mask }}, broadcast {{ map.broadcast }}</span></span
      >
      <form v-if="session.mayPlan && map" class="reserve" @submit.prevent="keep">
        <NInput
          v-model:value="reserve"
          size="small"
          placeholder="10.40.11.2-10.40.11.9 reason"
          :input-props="{ 'aria-label': 'Range to keep free, with the reason' }" /><NButton
          size="small"
          attr-type="submit"
          :disabled="!reserve"
          >Keep free</NButton
        >
      </form>
    </div>
    <p v-if="!map" class="faint">The site has no subnet yet. Make one in the settings.</p>
    <template v-else-if="view === 'map'">
      <div class="legend" aria-hidden="true">
        <span><i class="free" /> free</span><span><i class="kept">×</i> kept</span
        ><span><i class="planned">○</i> planned</span><span><i class="found">●</i> found</span
        ><span><i class="conflict">!</i> conflict</span><span class="said mono">{{ said }}</span>
      </div>
      <div v-if="large.length" class="blocks" :class="{ one: large.length === 1 }">
        <section v-for="b in large" :key="b.first" :aria-label="b.label">
          <h3 class="mono">
            {{ b.label }}
            <span class="faint">{{
              ['conflict', 'found', 'planned', 'kept']
                .filter((k) => b.counts[k])
                .map((k) => (k === 'conflict' ? plural(b.counts[k] ?? 0, k) : `${b.counts[k]} ${k}`))
                .join(', ')
            }}</span>
          </h3>
          <div
            class="block"
            role="img"
            tabindex="0"
            :aria-label="`${b.label} ${JSON.stringify(b.counts)}; the list says each address in words`"
            data-test="block"
            @keydown="key($event, b.first)"
            @mouseleave="hand = null">
            <template v-for="r in 256 / wide" :key="r">
              <span class="faint mono label">.{{ (r - 1) * wide }}</span>
              <i
                v-for="n in rowOf(b.first + (r - 1) * wide)"
                :key="n"
                :class="[cellOf(n).is, { hand: hand === n }]"
                :title="cellOf(n).text"
                @mouseenter="hand = n"
                >{{ marks[cellOf(n).is] }}</i
              >
            </template>
          </div>
        </section>
      </div>
      <div v-else class="overview" data-test="overview">
        <button
          v-for="b in blocks"
          :key="b.first"
          class="mini"
          :class="{ busy: Object.keys(b.counts).length }"
          @click="zoomed = b.first">
          <span class="mono">{{ b.label }}</span>
          <span class="bar"
            ><span
              v-for="k in ['conflict', 'found', 'planned', 'kept']"
              :key="k"
              :class="k"
              :style="{ width: ((b.counts[k] ?? 0) / 256) * 100 + '%' }"
          /></span>
          <span class="faint">{{
            ['conflict', 'found', 'planned']
              .filter((k) => b.counts[k])
              .map((k) => (k === 'conflict' ? plural(b.counts[k] ?? 0, k) : `${b.counts[k]} ${k}`))
              .join(', ') || (b.counts.kept ? `${b.counts.kept} kept` : 'free')
          }}</span>
        </button>
      </div>
    </template>
    <template v-else>
      <NInput
        v-model:value="search"
        clearable
        size="small"
        placeholder="Search"
        class="search"
        :input-props="{ 'aria-label': 'Search addresses' }" />
      <Table
        :columns="columns"
        :data="rows"
        :row-key="(c: MapCell) => c.address"
        size="small"
        virtual-scroll
        flex-height
        class="list"
        :min-row-height="31"
        data-test="address-list" />
    </template>
  </div>
</template>

<style scoped src="./addresses.css"></style>
