<script setup lang="ts">
import { NAlert, NButton, NCard, NDrawer, NDrawerContent, NInput, NInputNumber, NSelect, NTable } from 'naive-ui'
import { computed, defineAsyncComponent, onMounted, reactive, ref } from 'vue'
import { call, Problem, sitePath } from '../api'
import type { Bodies } from '../api'
import LookoutCard from '../components/LookoutCard.vue'
import { plural } from '../format'
import { useSite } from '../site'

const site = useSite()
const documents = ref<Bodies['Document'][]>([])
const wrong = ref('')
const made = ref('')
const busy = ref('')
onMounted(async () => {
  documents.value = await call('GET', 'documents')
})

// What is ready, and what is missing and why: what is not wired is not expected.
const expected = computed(() => site.entries.filter((e) => !e.unwired))
const verified = computed(() => expected.value.filter((e) => e.state === 'verified'))
const missing = computed(() =>
  expected.value
    .filter((e) => e.state !== 'verified')
    .map((e) => ({
      tag: e.tag,
      state: e.state,
      why:
        e.reason ||
        (e.differs ?? []).join('; ') ||
        (e.state === 'planned' && !e.behind ? 'no device is matched with it' : '') ||
        (e.notLookedAt?.length ? 'not looked at: ' + e.notLookedAt.join(', ') : 'it was not looked at yet'),
    })),
)

// A document is shown as pictures of its pages, a text by its first lines.
const PagePreview = defineAsyncComponent(() => import('../components/PagePreview.vue'))
const preview = ref<{ title: string; path: string; kind: 'pages' | 'lines' }>()
const kindOf = (file: string) =>
  file.endsWith('.pdf') ? 'pages' : /\.(xlsx|zip)$/.test(file) ? undefined : ('lines' as const)
function look(title: string, path: string, kind: 'pages' | 'lines') {
  preview.value = { title, path: sitePath(path), kind }
}

// Whom something goes to is kept, and what changes from then on is told.
const taker = ref('')
const since = ref<Bodies['Since']>()
async function give() {
  await save('package', 'handovers', 'handover.zip', { document: 'package', to: taker.value })
  if (!wrong.value) taker.value = ''
}
const words = (error: unknown) => (error instanceof Problem ? error.message : 'The service does not answer.')
async function changes(id: number) {
  try {
    since.value = await call('GET', sitePath(`handovers/${id}/differences`))
  } catch (error) {
    wrong.value = words(error)
  }
}
const when = (at: string) => new Date(at).toLocaleString()

const label = reactive({ size: '70x37', gap: '', page: 'A4', start: 1, fields: 'tag,name,address,mac,serial' })
const pages = ['A4', 'letter', 'roll'].map((p) => ({ label: p, value: p }))
const sheetTags = ref<string[]>([])
const tags = computed(() => site.entries.map((e) => ({ label: e.tag, value: e.tag })))
const to = reactive({ recipients: '', passphrase: '' })

// The service says in words what is wrong; nothing is saved then.
async function save(what: string, path: string, name: string, body?: unknown) {
  wrong.value = ''
  made.value = ''
  busy.value = what
  try {
    const response = await fetch('/api/' + sitePath(path), {
      method: body ? 'POST' : 'GET',
      headers: body ? { 'Content-Type': 'application/json' } : {},
      body: body ? JSON.stringify(body) : undefined,
    })
    if (!response.ok) {
      const p = (await response.json().catch(() => ({}))) as { detail?: string; next?: string }
      wrong.value = [p.detail ?? response.statusText, p.next].filter(Boolean).join('; ')
      return
    }
    const link = document.createElement('a')
    link.href = URL.createObjectURL(await response.blob())
    link.download = `${site.key}-${name}`
    link.click()
    URL.revokeObjectURL(link.href)
    made.value = `${name} is made.`
  } catch {
    wrong.value = 'The service does not answer; check that it is running.'
  } finally {
    busy.value = ''
  }
}
const query = (values: Record<string, string | number>) =>
  Object.entries(values)
    .filter(([, v]) => v !== '')
    .map(([k, v]) => `${k}=${encodeURIComponent(v)}`)
    .join('&')
const labels = (format: string) =>
  save('labels-' + format, 'labels?' + query({ ...label, format }), format === 'svg' ? 'labels.zip' : 'labels.pdf')
async function credentials() {
  const recipients = to.recipients.split(/\s+/).filter(Boolean)
  await save('credentials', 'documents/credentials', 'credentials.csv.age', { recipients, passphrase: to.passphrase })
  to.passphrase = ''
}
</script>

<template>
  <div class="page">
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert" class="gap">{{ wrong }}</NAlert>
    <NAlert v-else-if="made" type="success" :show-icon="false" role="status" class="gap">{{ made }}</NAlert>
    <NCard size="small" title="How far the site is" class="gap">
      <p data-test="ready">
        <strong>{{ verified.length }} of {{ plural(expected.length, 'entry') }}</strong> verified.
        <template v-if="!expected.length">The plan has nothing that is wired.</template>
        <template v-else-if="!missing.length">Everything that is wired was verified.</template>
        <template v-else>What is handed over says of each value whether it was verified; these are not whole:</template>
      </p>
      <div v-if="missing.length" class="missing">
        <NTable size="small" :bordered="false" data-test="missing">
          <tbody>
            <tr v-for="m in missing" :key="m.tag">
              <td class="tag">
                <strong>{{ m.tag }}</strong>
              </td>
              <td class="state">{{ m.state }}</td>
              <td>{{ m.why }}</td>
            </tr>
          </tbody>
        </NTable>
      </div>
    </NCard>
    <NCard size="small" title="Documents" class="gap">
      <NTable size="small" :bordered="false" data-test="documents">
        <tbody>
          <tr v-for="d in documents" :key="d.name">
            <td class="tag">{{ d.file }}</td>
            <td>{{ d.says }}</td>
            <td class="do">
              <NButton
                v-if="kindOf(d.file)"
                size="tiny"
                quaternary
                :data-test="'look-' + d.name"
                @click="look(d.file, 'documents/' + d.name, kindOf(d.file)!)"
                >Look</NButton
              >
              <NButton
                size="tiny"
                :loading="busy === d.name"
                :data-test="'document-' + d.name"
                @click="save(d.name, 'documents/' + d.name, d.file)"
                >Save</NButton
              >
            </td>
          </tr>
        </tbody>
      </NTable>
    </NCard>
    <NCard size="small" title="Handed over" class="gap">
      <div v-if="site.mayCommission" class="line">
        <NInput
          v-model:value="taker"
          size="small"
          placeholder="who takes it, and whom they are from"
          class="wide"
          :input-props="{ 'aria-label': 'Who takes it' }"
          @keyup.enter="give" />
        <NButton
          size="small"
          type="primary"
          :disabled="!taker.trim()"
          :loading="busy === 'package'"
          data-test="give"
          @click="give"
          >Hand over the package</NButton
        >
      </div>
      <NTable v-if="site.handovers.length" size="small" :bordered="false" data-test="given">
        <tbody>
          <tr v-for="h in site.handovers" :key="h.id">
            <td class="tag">{{ when(h.at) }}</td>
            <td>
              <strong>{{ h.to }}</strong
              >, {{ h.what }} from {{ h.who }}
            </td>
            <td class="do"><NButton size="tiny" @click="changes(h.id)">What changed since</NButton></td>
          </tr>
        </tbody>
      </NTable>
      <p v-else class="faint">
        Nothing was handed over yet. Who has what is kept from then on, and what changed since is told.
      </p>
    </NCard>
    <LookoutCard />
    <NCard size="small" title="Labels" class="gap">
      <p class="faint">
        In walking order, with a code that a phone shows and the scanner takes. Lengths in millimetres.
      </p>
      <div class="line">
        <label
          >Size <NInput v-model:value="label.size" size="small" class="short" :input-props="{ 'aria-label': 'Size' }"
        /></label>
        <label
          >Gap
          <NInput
            v-model:value="label.gap"
            size="small"
            class="short"
            placeholder="none"
            :input-props="{ 'aria-label': 'Gap' }"
        /></label>
        <label
          >On <NSelect v-model:value="label.page" :options="pages" size="small" class="short" aria-label="Page"
        /></label>
        <label
          >Begin at
          <NInputNumber
            v-model:value="label.start"
            :min="1"
            size="small"
            class="short"
            :input-props="{ 'aria-label': 'Begin at label' }"
        /></label>
        <label class="wide"
          >Fields <NInput v-model:value="label.fields" size="small" :input-props="{ 'aria-label': 'Fields' }"
        /></label>
        <NButton
          size="small"
          quaternary
          data-test="look-labels"
          @click="look('labels.pdf', 'labels?' + query(label), 'pages')"
          >Look</NButton
        >
        <NButton size="small" :loading="busy === 'labels-pdf'" data-test="labels-pdf" @click="labels('pdf')"
          >Save as PDF</NButton
        >
        <NButton size="small" :loading="busy === 'labels-svg'" @click="labels('svg')">Save as SVG</NButton>
      </div>
    </NCard>
    <NCard size="small" title="Commissioning sheets" class="gap">
      <div class="line">
        <NSelect
          v-model:value="sheetTags"
          multiple
          filterable
          size="small"
          :options="tags"
          placeholder="of these entries"
          max-tag-count="responsive"
          class="wide"
          aria-label="Entries" />
        <NButton
          size="small"
          :disabled="!sheetTags.length"
          :loading="busy === 'sheets'"
          @click="save('sheets', 'sheets?' + query({ tags: sheetTags.join(',') }), 'sheets.pdf')"
          >Save as PDF</NButton
        >
      </div>
    </NCard>
    <NCard v-if="site.mayCommission" size="small" title="Credentials" class="gap">
      <p class="faint">
        All logins and secrets, sealed to public keys of age or with a passphrase. The history of every entry says who
        sealed them, and for whom.
      </p>
      <div class="line">
        <NInput
          v-model:value="to.recipients"
          size="small"
          placeholder="age1…, several divided by spaces"
          class="wide"
          :disabled="!!to.passphrase"
          :input-props="{ 'aria-label': 'Public keys' }" />
        <NInput
          v-model:value="to.passphrase"
          type="password"
          size="small"
          placeholder="or a passphrase, at least 12 characters"
          class="wide"
          :disabled="!!to.recipients"
          :input-props="{ autocomplete: 'new-password', 'aria-label': 'Passphrase' }" />
        <NButton
          size="small"
          :disabled="!to.recipients && !to.passphrase"
          :loading="busy === 'credentials'"
          data-test="credentials"
          @click="credentials"
          >Seal and save</NButton
        >
      </div>
    </NCard>
    <NDrawer :show="!!preview" :width="820" style="max-width: 100%" @update:show="preview = undefined">
      <NDrawerContent :title="preview?.title" closable>
        <PagePreview v-if="preview" :key="preview.path" :path="preview.path" :kind="preview.kind" />
      </NDrawerContent>
    </NDrawer>
    <NDrawer :show="!!since" :width="820" style="max-width: 100%" @update:show="since = undefined">
      <NDrawerContent v-if="since" :title="'Since it was handed over to ' + since.handover.to" closable>
        <p v-if="!since.differences.length" data-test="no-differences">Nothing changed.</p>
        <NTable v-else size="small" :bordered="false" data-test="differences">
          <tbody>
            <tr v-for="(d, i) in since.differences" :key="i">
              <td>
                <strong>{{ d.tag }}</strong>
              </td>
              <td>{{ d.column }}</td>
              <td>{{ d.was || 'nothing' }} → {{ d.is || 'nothing' }}</td>
            </tr>
          </tbody>
        </NTable>
      </NDrawerContent>
    </NDrawer>
  </div>
</template>

<style scoped>
.page {
  max-width: 1100px;
  margin: 0 auto;
}
.gap {
  margin-bottom: 12px;
}
.missing {
  max-height: 260px;
  overflow: auto;
}
.tag {
  width: 220px;
}
.state {
  width: 150px;
}
.do {
  width: 150px;
  white-space: nowrap;
  text-align: right;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  align-items: end;
}
.line label {
  display: flex;
  flex-direction: column;
  gap: 2px;
}
.short {
  width: 110px;
}
.wide {
  flex: 1;
  min-width: 260px;
}
p {
  margin: 0 0 8px;
}
@media (max-width: 900px) {
  .tag,
  .state {
    width: auto;
  }
}
</style>
