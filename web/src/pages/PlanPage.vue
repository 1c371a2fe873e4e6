<script setup lang="ts">
import { useMediaQuery, useStorage } from '@vueuse/core'
import { NButton, NDropdown, NInput, NPopselect, useMessage } from 'naive-ui'
import { computed, onMounted, ref, shallowRef } from 'vue'
import type { Entry, Patch } from '../api'
import { call, siteCall, siteURL, valueOf } from '../api'
import AllocateDialog from '../components/AllocateDialog.vue'
import EntryForm from '../components/EntryForm.vue'
import GenerateDialog from '../components/GenerateDialog.vue'
import ImportDialog from '../components/ImportDialog.vue'
import PlanSheet from '../components/PlanSheet.vue'
import SheetFoot from '../components/SheetFoot.vue'
import StateMark from '../components/StateMark.vue'
import { plural, searched } from '../format'
import type { Column, Field } from '../sheet/columns'
import { useChanges } from '../sheet/changes'
import { columnsOf, usual } from '../sheet/columns'
import { usePlan } from '../stores/plan'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import { Choice } from '../components/choice'

const session = useSession()
const site = useSite()
const plan = usePlan()
const message = useMessage()
const narrow = useMediaQuery('(max-width: 900px)')
const fields = ref<Field[]>([])
onMounted(async () => (fields.value = await call('get', '/fields').catch(() => [])))
const search = ref('')
const kinds = ref<string[]>([])
const chosen = useStorage<string[]>('redstart-columns', usual)
const sheet = ref<InstanceType<typeof PlanSheet>>()
const importing = ref(false)
const generating = ref(false)
const allocating = ref(false)
const editing = ref(false)
const editTags = ref<string[]>([])
const selected = ref<string[]>([])

const kindOptions = computed(() =>
  [...new Set(plan.entries.map((e) => e.kind))].sort().map((v) => ({ label: v, value: v })),
)
const rows = computed(() => {
  const has = searched(search.value)
  if (!search.value && !kinds.value.length) return plan.entries
  return plan.entries.filter((e) => {
    if (kinds.value.length && !kinds.value.includes(e.kind)) return false
    const text = [
      e.tag,
      e.kind,
      e.profile,
      e.area,
      e.floor,
      e.place,
      e.address,
      e.name,
      e.mac,
      e.serial,
      e.note,
      ...Object.values(e.settings ?? {}),
    ].join(' ')
    return has(text)
  })
})

const used = computed(() => new Set(rows.value.map((e) => e.profile)))
// The settings of what is shown: all of a few models, of many only what is in use.
const settingKeys = computed(() => {
  const all = site.profiles
    .filter((p) => used.value.has(p.id))
    .flatMap((p) => (p.settings ?? []).filter((s) => s.type !== 'computed').map((s) => s.key))
  if (used.value.size <= 3) return all
  const given = new Set(rows.value.flatMap((e) => Object.keys(e.settings ?? {})))
  return all.filter((k) => given.has(k))
})
const columns = computed(() =>
  columnsOf(
    [...chosen.value, 'tag', ...settingKeys.value],
    fields.value,
    site.profiles.filter((p) => used.value.has(p.id)),
  ),
)
const columnOptions = computed(() =>
  fields.value.filter((f) => f.key !== 'tag').map((f) => ({ label: f.label, value: f.key })),
)
const { pending, change, back, forward, undo, redo } = useChanges()

const at = shallowRef<{ entry: Entry | null; column: Column } | null>(null)
const typed = shallowRef<Patch | null>(null)

/** How many cards a phone draws before it is asked for more. */
const mostCards = 150
const shown = ref(mostCards)
const found = computed(() => {
  const n = new Map<string, number>()
  for (const f of plan.findings) if (f.tag) n.set(f.tag, (n.get(f.tag) ?? 0) + 1)
  return n
})
const mends = computed(() => plan.findings.filter((f) => f.mend?.safe).length)
async function mend() {
  const out = await siteCall('post', '/mends', { body: { all: true } }).catch(
    (e: Error) => void message.error(e.message),
  )
  if (!out) return
  message.success(
    `${plural(out.changes.length, 'mend')}: ${out.changes
      .slice(0, 3)
      .map((c) => `${c.tag} ${c.field} ${c.after}`)
      .join('; ')}${out.changes.length > 3 ? ' …' : ''}`,
    { duration: 8000, closable: true },
  )
  await plan.settle()
}

function remove() {
  void change(
    selected.value.map((tag) => ({ tag, remove: true })),
    `${plural(selected.value.length, 'entry')} removed`,
  )
}
function open(tags: string[]) {
  editTags.value = tags
  editing.value = true
}
const exports = ['xlsx', 'csv', 'json'].map((f) => ({ label: f.toUpperCase(), key: f }))
function save(format: string) {
  location.assign(siteURL(`export?format=${format}`))
}
</script>

<template>
  <div class="page">
    <div class="tools">
      <NInput
        v-model:value="search"
        clearable
        size="small"
        placeholder="Search the plan"
        class="search"
        :input-props="{ 'aria-label': 'Search the plan' }" />
      <Choice
        name="Any kind"
        v-model:value="kinds"
        multiple
        clearable
        size="small"
        :options="kindOptions"
        placeholder="Any kind"
        max-tag-count="responsive"
        class="filter" />
      <NPopselect v-if="!narrow" v-model:value="chosen" multiple :options="columnOptions" trigger="click" scrollable
        ><NButton size="small">Columns</NButton></NPopselect
      >
      <template v-if="session.mayPlan">
        <NButton size="small" data-test="plan-add" @click="open([])">Add</NButton>
        <NButton size="small" data-test="plan-generate" @click="generating = true">Generate</NButton>
        <NButton size="small" data-test="plan-import" @click="importing = true">Import</NButton>
      </template>
      <NDropdown :options="exports" trigger="click" @select="save"
        ><NButton size="small" :disabled="!plan.entries.length">Export</NButton></NDropdown
      >
      <template v-if="session.mayPlan">
        <NButton v-if="!narrow" size="small" :disabled="!selected.length" data-test="plan-edit" @click="open(selected)"
          >Edit {{ selected.length }}</NButton
        >
        <NButton size="small" :disabled="!plan.entries.length" @click="allocating = true">Addresses</NButton>
        <NButton v-if="!narrow" size="small" :disabled="selected.length < 2" title="Ctrl+D" @click="sheet?.fillDown()"
          >Fill down</NButton
        >
        <NButton v-if="!narrow" size="small" :disabled="!selected.length" @click="remove">Remove</NButton>
        <NButton
          size="small"
          :disabled="!back"
          :title="back ? `Ctrl+Z: ${back.what}` : 'Ctrl+Z'"
          data-test="plan-undo"
          @click="undo"
          >Undo</NButton
        >
        <NButton
          size="small"
          :disabled="!forward"
          :title="forward ? `Ctrl+Y: ${forward.what}` : 'Ctrl+Y'"
          data-test="plan-redo"
          @click="redo"
          >Redo</NButton
        >
        <NButton v-if="mends" size="small" type="primary" data-test="plan-mend" @click="mend">Mend {{ mends }}</NButton>
      </template>
    </div>
    <div v-if="!site.key" class="empty">
      <p>There is no site yet.</p>
      <NButton type="primary" @click="$router.push('/settings')">Make one</NButton>
    </div>
    <ul v-else-if="narrow" class="cards" data-test="cards">
      <li v-for="e in rows.slice(0, shown)" :key="e.tag">
        <button class="link card" @click="open([e.tag])">
          <span
            ><strong>{{ e.tag }}</strong> <span class="faint">{{ e.kind }}</span></span
          >
          <span class="mono">{{ e.address || 'no address' }}</span>
          <span class="faint">{{ e.place || valueOf(e, 'area') }}</span>
          <span v-if="found.get(e.tag)" class="bad">▲ {{ found.get(e.tag) }}</span>
          <StateMark v-else :state="e.state" />
        </button>
      </li>
      <li v-if="rows.length > shown">
        <button class="link" @click="shown += mostCards">{{ rows.length - shown }} more: show the next</button>
      </li>
      <li v-if="!rows.length" class="faint">Nothing here. Add entries, or import a file.</li>
    </ul>
    <PlanSheet
      v-else-if="fields.length"
      ref="sheet"
      :rows="rows"
      :columns="columns"
      :readonly="!session.mayPlan"
      :pending="pending"
      @change="change"
      @at="(entry, column) => (at = { entry, column })"
      @typing="typed = $event"
      @select="selected = $event"
      @undo="undo"
      @redo="redo"
      @open="(t) => open([t])" />
    <SheetFoot
      v-if="!narrow && site.key"
      :at="at"
      :patch="typed"
      :rows="rows.length"
      :selected="selected.length"
      @change="change" />
    <ImportDialog v-model:show="importing" />
    <GenerateDialog v-model:show="generating" @done="plan.settle()" />
    <AllocateDialog v-model:show="allocating" :tags="selected.length > 1 ? selected : []" @done="plan.settle()" />
    <EntryForm v-model:show="editing" :tags="editTags" :fields="fields" @change="change" />
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
}
.search {
  width: 180px;
}
.filter {
  width: 135px;
}
.bad {
  color: var(--bad);
}
.warn {
  color: var(--warn);
}
.cards {
  list-style: none;
  margin: 0;
  padding: 0;
  overflow-y: auto;
}
.card {
  width: 100%;
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 2px 8px;
  padding: 8px 6px;
  border-bottom: 1px solid var(--line);
  font-weight: 400;
}
.card > :nth-child(even) {
  text-align: right;
  justify-self: end;
}
.empty {
  text-align: center;
  padding: 48px 0;
}
@media (max-width: 900px) {
  .search {
    width: 100%;
  }
}
</style>
