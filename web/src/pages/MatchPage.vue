<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { NButton, NInput, NTabPane, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { siteCall } from '../api'
import type { Device, Entry, Proposal, Scanned } from '../api'
import AdoptDialog from '../components/AdoptDialog.vue'
import EntryDrawer from '../components/EntryDrawer.vue'
import ScanField from '../components/ScanField.vue'
import SelectTable from '../components/SelectTable.vue'
import { plural, searched } from '../format'
import { by, names, useMatchLists } from '../match/columns'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { Choice } from '../components/choice'
import { Tabs } from '../components/tabs'

// Which box is which: what is proposed and why, what is matched, and what is
// left over on both sides.
const session = useSession()
const plan = usePlan()
const segment = useSegment()
const message = useMessage()
const narrow = useMediaQuery('(max-width: 900px)')
const search = ref('')
const reasons = ref<string[]>([])
const chosen = ref<string[]>([])
const undoing = ref<string[]>([])
const awaited = ref('') // the entry whose box is scanned next
const said = ref<{ text: string; good: boolean } | null>(null)
const shown = ref('')
const spare = ref<string[]>([])
const adopting = ref(false)
async function attempt(what: () => Promise<unknown>) {
  try {
    await what()
    await plan.settle()
  } catch (e) {
    message.error((e as Error).message, { duration: 8000, closable: true })
  }
}
const proposals = computed(() => {
  const has = searched(search.value)
  return plan.proposals.proposals.filter(
    (p) =>
      (!reasons.value.length || reasons.value.includes(p.by)) &&
      has(`${p.tag} ${p.mac} ${p.serial ?? ''} ${p.profile} ${p.why}`),
  )
})
const counted = computed(() => {
  const n: Record<string, number> = {}
  for (const p of plan.proposals.proposals) if (!p.part) n[p.by] = (n[p.by] ?? 0) + 1
  return Object.entries(n)
})
// What rests on the order alone among identical boxes is left out of "all".
const certain = computed(() => plan.proposals.proposals.filter((p) => !p.part && !p.guess).length)
const guesses = computed(() => plan.proposals.proposals.filter((p) => !p.part && p.guess).length)
const parts = computed(() => [...new Set(plan.proposals.proposals.filter((p) => p.part).map((p) => p.profile))])
const matched = computed(() => {
  const has = searched(search.value)
  return plan.entries.filter((e) => e.device && has(`${e.tag} ${e.device} ${e.matchedBy} ${e.matchedWhy}`))
})
const missing = computed(() => {
  const tags = new Set(plan.proposals.missing)
  return plan.entries.filter((e) => tags.has(e.tag))
})
const loose = computed(() => {
  const macs = new Set(plan.proposals.spare)
  return segment.devices.filter((d) => macs.has(d.mac))
})
const undoable = computed(() => {
  const tags = new Set(undoing.value)
  return matched.value.filter((e) => tags.has(e.tag) && e.state === 'matched' && !e.locked)
})

const accept = (body: object) =>
  attempt(async () => {
    await siteCall('post', '/matches', { body })
    chosen.value = []
  })
const undo = () =>
  attempt(async () => {
    await siteCall('post', '/matches/undo', { body: { tags: undoable.value.map((e) => e.tag) } })
    undoing.value = []
  })
const lock = (e: Entry) => attempt(() => siteCall('put', '/locks', { body: { tags: [e.tag], locked: !e.locked } }))
function scanned(out: Scanned) {
  said.value = { text: out.text, good: out.outcome !== 'unknown' }
  if (out.outcome === 'entry') awaited.value = out.tag
  if (out.outcome === 'matched' || out.outcome === 'noted') awaited.value = ''
  void plan.settle()
}

const lists = useMatchLists({
  narrow,
  mayLock: () => session.mayCommission,
  show: (tag) => (shown.value = tag),
  lock: (e) => void lock(e),
})
</script>

<template>
  <div class="page">
    <div class="scanner">
      <ScanField :tag="awaited" @scanned="scanned" @refused="said = { text: $event, good: false }" />
      <p v-if="said" :class="said.good ? 'good' : 'bad'" role="status" data-test="scan-said">
        {{ said.text }}<NButton v-if="awaited" text size="small" @click="awaited = ''"> (not {{ awaited }})</NButton>
      </p>
    </div>
    <Tabs type="line" size="small" class="tabs" pane-class="pane" default-value="proposed">
      <NTabPane name="proposed" :tab="plan.proposed ? `Proposed ${plan.proposals.proposals.length}` : 'Proposed'">
        <div class="tools">
          <NInput
            v-model:value="search"
            clearable
            size="small"
            placeholder="Search"
            class="search"
            :input-props="{ 'aria-label': 'Search matches' }" />
          <Choice
            name="Any reason"
            v-model:value="reasons"
            multiple
            clearable
            size="small"
            placeholder="Any reason"
            class="filter"
            max-tag-count="responsive"
            :options="Object.keys(names).map((v) => ({ label: by(v), value: v }))" />
          <NButton
            v-if="chosen.length"
            size="small"
            type="primary"
            data-test="match-accept-chosen"
            @click="accept({ tags: chosen })"
            >Accept {{ chosen.length }} selected</NButton
          >
          <template v-else-if="session.mayCommission">
            <NButton
              v-for="[reason, n] in counted"
              :key="reason"
              size="small"
              :data-test="'accept-' + reason"
              @click="accept({ reasons: [reason] })"
              >Accept {{ n }} {{ by(reason) }}</NButton
            >
            <NButton v-for="p in parts" :key="p" size="small" @click="accept({ profiles: [p] })"
              >Take the part of {{ p }}</NButton
            >
            <span class="grow" />
            <NButton
              v-if="counted.length"
              size="small"
              type="primary"
              data-test="match-accept"
              :disabled="!certain"
              @click="accept({ all: true })"
              >Accept all certain {{ certain }}</NButton
            >
            <span v-if="guesses" class="faint">{{ guesses }} by order alone are left out</span>
          </template>
        </div>
        <div v-if="plan.proposals.open.length" class="open">
          <p v-for="o in plan.proposals.open" :key="o.profile + o.tag">
            <strong>Open:</strong> {{ o.tag || o.profile }}: {{ o.why
            }}<span v-if="o.decide" class="faint">; {{ o.decide }}</span>
          </p>
        </div>
        <p v-if="!plan.proposals.proposals.length" class="empty faint">
          {{
            !plan.proposed
              ? 'What may be which is being worked out.'
              : segment.devices.length
                ? 'Nothing is proposed.'
                : 'Find first: nothing is known of the segment.'
          }}
        </p>
        <SelectTable
          v-else
          v-model:chosen="chosen"
          :columns="lists.proposed.value"
          :data="proposals"
          :row-key="(p: Proposal) => p.tag"
          :narrow="narrow"
          class="table"
          data-test="proposals" />
      </NTabPane>
      <NTabPane name="matched" :tab="`Matched ${matched.length}`">
        <div class="tools">
          <NInput
            v-model:value="search"
            clearable
            size="small"
            placeholder="Search"
            class="search"
            :input-props="{ 'aria-label': 'Search matches' }" />
          <NButton v-if="undoing.length" size="small" :disabled="!undoable.length" data-test="match-undo" @click="undo"
            >Undo {{ undoable.length }}</NButton
          >
        </div>
        <SelectTable
          v-model:chosen="undoing"
          :columns="lists.matched.value"
          :data="matched"
          :row-key="(e: Entry) => e.tag"
          :narrow="narrow"
          class="table"
          data-test="matched" />
      </NTabPane>
      <NTabPane name="missing" :tab="`Entries without a box ${missing.length}`">
        <p v-if="plan.proposed && !missing.length" class="empty faint">
          Every entry that is wired has a box, or one is proposed.
        </p>
        <ul v-else class="missing" data-test="missing">
          <li v-for="e in missing" :key="e.tag">
            <button class="link" @click="shown = e.tag">{{ e.tag }}</button>
            <span class="faint">{{ e.profile }}, {{ e.place }}</span>
          </li>
        </ul>
      </NTabPane>
      <NTabPane name="spare" :tab="`Boxes without an entry ${loose.length}`">
        <div class="tools">
          <NButton v-if="spare.length" size="small" :disabled="!session.mayPlan" @click="adopting = true"
            >Adopt {{ plural(spare.length, 'device') }}</NButton
          >
          <span v-else class="faint">Select boxes to take them into the plan. What no profile fits is left alone.</span>
        </div>
        <SelectTable
          v-model:chosen="spare"
          :columns="lists.spare.value"
          :data="loose"
          :row-key="(d: Device) => d.mac"
          :narrow="narrow"
          class="table"
          data-test="spare" />
      </NTabPane>
    </Tabs>
    <AdoptDialog v-model:show="adopting" :macs="spare" @done="spare = []" />
    <EntryDrawer v-model:tag="shown" @attempt="attempt" />
  </div>
</template>

<style scoped>
.scanner {
  max-width: 720px;
}
.scanner p {
  margin: 4px 0 0;
  font-weight: 600;
}
.good {
  color: var(--ok);
}
.bad {
  color: var(--bad);
}
.search {
  width: 200px;
}
.filter {
  width: 180px;
}
.tabs {
  flex: 1;
  min-height: 0;
}
.tabs :deep(.n-tabs-pane-wrapper),
.tabs :deep(.pane) {
  height: 100%;
}
.tabs :deep(.pane) {
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding-top: 8px !important;
  box-sizing: border-box;
}
.table {
  flex: 1;
  min-height: 160px;
}
.open {
  max-height: 96px;
  overflow: auto;
  padding: 4px 10px;
  background: var(--card);
  border: 1px solid var(--line);
  border-left: 3px solid var(--warn);
  border-radius: 4px;
}
.open p {
  margin: 2px 0;
}
.missing {
  columns: 3 260px;
  margin: 0;
  padding: 0 0 0 18px;
}
.empty {
  text-align: center;
  padding: 32px 0;
}
@media (max-width: 900px) {
  .search,
  .filter {
    width: 100%;
  }
}
</style>
