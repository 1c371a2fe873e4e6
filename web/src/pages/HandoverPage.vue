<script setup lang="ts">
import { NAlert, NButton, NCard, NInput, NInputNumber, NSelect, NTable } from 'naive-ui'
import { computed, onMounted, reactive, ref } from 'vue'
import { call, sitePath } from '../api'
import type { Bodies } from '../api'
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
  width: 80px;
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
