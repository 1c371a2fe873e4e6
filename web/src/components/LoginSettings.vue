<script setup lang="ts">
import {
  NAlert,
  NButton,
  NCard,
  NForm,
  NFormItem,
  NInput,
  NInputNumber,
  NPopconfirm,
  NTable,
  useMessage,
} from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { computed, onMounted, reactive, ref, watch } from 'vue'
import { call, siteCall } from '../api'
import type { KnownLogin, Policy } from '../api'
import { usePlan } from '../stores/plan'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import { Choice } from './choice'
import { Table } from './table'

const session = useSession()
const site = useSite()
const plan = usePlan()
const message = useMessage()
const vault = ref<{ locked: boolean; opener: string; lost?: string; sealedByLost: number } | null>(null)
const passphrase = ref('')
const next = ref('')
const wrong = ref('')
const known = ref<KnownLogin[]>([])
const byText = (key: 'of' | 'by' | 'state') => (a: KnownLogin, b: KnownLogin) => a[key].localeCompare(b[key])
const knownColumns: DataTableColumns<KnownLogin> = [
  { title: 'Login of', key: 'of', sorter: byText('of') },
  { title: 'Known by', key: 'by', sorter: byText('by') },
  { title: 'Setting', key: 'setting' },
  {
    title: 'It has',
    key: 'state',
    sorter: byText('state'),
    render: (k) => (k.state === 'an earlier one' ? '▲ ' : k.state === 'the present one' ? '✓ ' : '· ') + k.state,
  },
]
const load = async () => {
  vault.value = await call('get', '/vault')
  if (site.key) known.value = await siteCall('get', '/known-logins')
}
onMounted(load)
watch(() => site.locked, load)

const modes = [
  { label: 'one generated password per device', value: 'each' },
  { label: 'one generated password per kind', value: 'kind' },
  { label: 'a given password', value: 'given' },
]
const users = [
  { label: 'keep the factory user', value: 'keep' },
  { label: 'rename it', value: 'rename' },
  { label: 'add one', value: 'add' },
]
const scopes = computed(() => [
  { label: 'the site', value: '' },
  ...[...new Set(site.profiles.map((p) => p.kind))].sort().map((k) => ({ label: 'kind ' + k, value: 'kind:' + k })),
  ...site.profiles.map((p) => ({ label: `profile ${p.id}`, value: 'profile:' + p.id })),
])
const empty = { for: '', mode: 'each', length: 0, given: '', users: 'keep', user: '', recovery: '', password: '' }
const form = reactive({ ...empty })
const findings = computed(() => plan.findings.filter((f) => f.code.startsWith('policy-')))
const file = ref<HTMLInputElement>()

async function attempt(what: () => Promise<unknown>, done = '') {
  wrong.value = ''
  try {
    await what()
    if (done) message.success(done)
  } catch (e) {
    const p = e as Error & { cells?: { row: number; reason: string }[] }
    wrong.value = p.message + (p.cells ?? []).map((c) => ` Row ${c.row}: ${c.reason}.`).join('')
  }
}
const setPolicy = () =>
  attempt(async () => {
    const { for: of, mode, length, users, user, recovery, password } = form
    await siteCall('put', '/policies', {
      body: { for: of, mode, length, users, user, recovery, ...(mode === 'given' && password ? { password } : {}) },
    })
    Object.assign(form, empty)
  }, 'Saved')
const edit = (p: Policy) => Object.assign(form, empty, p)
const again = ref('')
const beginAnew = () =>
  attempt(async () => (vault.value = await call('post', '/vault/begin-anew')), 'The vault has a new key')
const removePolicy = (p: Policy) => attempt(() => siteCall('delete', '/policies', { query: { for: p.for } }))
const unlock = () =>
  attempt(async () => {
    vault.value = await call('post', '/vault/unlock', { body: { passphrase: passphrase.value } })
    passphrase.value = ''
  })
const lock = () => attempt(async () => (vault.value = await call('post', '/vault/lock')))
const changeKey = (withFile: boolean) =>
  attempt(async () => {
    vault.value = await call('post', '/vault/key', { body: { passphrase: withFile ? '' : next.value } })
    next.value = again.value = ''
  }, 'The vault has a new key')
const learn = (event: Event) =>
  attempt(async () => {
    const chosen = (event.target as HTMLInputElement).files?.[0]
    if (!chosen) return
    const out = await siteCall('post', '/credentials', { body: chosen })
    message.success(
      `${out.stored} logins stored, ${out.accepted} accepted by their devices just now${out.untried.length ? ', ' + out.untried.length + ' not tried' : ''}. The file itself still holds them in plain text: delete it.`,
      { duration: 8000 },
    )
    file.value!.value = ''
  })
</script>

<template>
  <NAlert v-if="wrong" type="error" :show-icon="false" role="alert" class="gap">{{ wrong }}</NAlert>
  <NCard v-if="site.key" size="small" title="How logins of devices are made" class="gap">
    <NTable size="small" :bordered="false" data-test="policies">
      <tbody>
        <tr v-for="p in site.site?.policies ?? []" :key="p.for">
          <td>
            <strong>{{ p.for || 'the site' }}</strong>
          </td>
          <td>{{ modes.find((m) => m.value === p.mode)?.label }}{{ p.length ? `, ${p.length} characters` : '' }}</td>
          <td>{{ users.find((u) => u.value === p.users)?.label }} {{ p.user }}</td>
          <td>{{ p.recovery }}</td>
          <td v-if="session.mayPlan">
            <NButton size="tiny" @click="edit(p)">Change</NButton>
            <NButton size="tiny" @click="removePolicy(p)">Take away</NButton>
          </td>
        </tr>
      </tbody>
    </NTable>
    <p v-for="f in findings" :key="f.code + f.profile + f.field" :class="f.level === 'stops' ? 'bad' : 'faint'">
      {{ f.level === 'stops' ? '▲' : '·' }} {{ f.reason }}
    </p>
    <NForm
      v-if="session.mayPlan"
      label-placement="left"
      label-width="110"
      size="small"
      class="grid"
      @submit.prevent="setPolicy">
      <NFormItem label="For"
        ><Choice name="For" v-model:value="form.for" :options="scopes" filterable data-test="policy-for"
      /></NFormItem>
      <NFormItem label="Passwords"
        ><Choice name="Passwords" v-model:value="form.mode" :options="modes" data-test="policy-mode"
      /></NFormItem>
      <NFormItem v-if="form.mode === 'given'" label="Password"
        ><NInput
          v-model:value="form.password"
          type="password"
          show-password-on="click"
          :input-props="{ autocomplete: 'new-password', 'aria-label': 'Password', id: 'policy-password' }"
      /></NFormItem>
      <NFormItem v-else label="Length"
        ><NInputNumber
          :value="form.length || null"
          :min="0"
          :max="64"
          placeholder="the usual"
          clearable
          @update:value="form.length = $event ?? 0"
      /></NFormItem>
      <NFormItem label="User"><Choice name="User" v-model:value="form.users" :options="users" /></NFormItem>
      <NFormItem v-if="form.users !== 'keep'" label="Name"><NInput v-model:value="form.user" /></NFormItem>
      <NFormItem label="Recovery mail"
        ><NInput v-model:value="form.recovery" placeholder="duty@example.org"
      /></NFormItem>
      <div class="foot">
        <NButton type="primary" size="small" attr-type="submit" data-test="policy-save">Set</NButton>
      </div>
    </NForm>
  </NCard>
  <NCard v-if="known.length" size="small" title="Who knows whose login" class="gap">
    <p class="faint">When a login changes, commission who knows it: it is given the new one.</p>
    <Table :columns="knownColumns" :data="known" size="small" :max-height="320" data-test="known-logins" />
  </NCard>
  <NCard size="small" title="Vault" class="gap" data-test="vault">
    <template v-if="vault">
      <p>
        <strong>{{ vault.locked ? 'Locked' : 'Open' }}</strong>, opened by
        {{ vault.opener === 'file' ? 'the key file vault.key in the data folder' : 'a passphrase' }}.
      </p>
      <p v-if="vault.lost" class="bad" role="alert">{{ vault.lost }}</p>
      <p v-if="vault.sealedByLost" class="faint">
        {{ vault.sealedByLost }} secrets stay sealed by a key that was lost.
      </p>
      <NPopconfirm v-if="vault.locked && session.rights === 'own'" @positive-click="beginAnew"
        ><template #trigger><NButton size="small">Begin anew</NButton></template
        >What the old key sealed stays sealed, for good unless it is found. Begin with a new key?</NPopconfirm
      >
      <form v-if="vault.locked && !vault.lost" class="line" @submit.prevent="unlock">
        <NInput
          v-if="vault.opener === 'passphrase'"
          v-model:value="passphrase"
          type="password"
          size="small"
          placeholder="passphrase"
          :input-props="{ 'aria-label': 'Passphrase', autocomplete: 'current-password' }" />
        <NButton type="primary" size="small" attr-type="submit">Unlock</NButton>
      </form>
      <div v-else class="line">
        <NButton v-if="session.mayCommission" size="small" data-test="vault-lock" @click="lock">Lock</NButton>
        <template v-if="session.rights === 'own'">
          <NInput
            v-model:value="next"
            type="password"
            size="small"
            placeholder="new passphrase, at least 12 characters"
            show-password-on="click"
            :input-props="{ 'aria-label': 'New passphrase', autocomplete: 'new-password' }" />
          <NInput
            v-model:value="again"
            type="password"
            size="small"
            placeholder="the same again"
            :input-props="{ 'aria-label': 'New passphrase again', autocomplete: 'new-password' }" />
          <NButton size="small" :disabled="next.length < 12 || next !== again" @click="changeKey(false)"
            >New key with passphrase</NButton
          >
          <NButton size="small" @click="changeKey(true)">New key file</NButton>
        </template>
      </div>
      <p v-if="session.mayCommission && site.key && !vault.locked">
        Logins that are known already:
        <input ref="file" type="file" accept=".csv" aria-label="Known logins as CSV" @change="learn" />
        <span class="faint">CSV with tag or mac, user, password</span>
      </p>
    </template>
  </NCard>
</template>

<style scoped>
.gap {
  margin-bottom: 12px;
}
.grid {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 16px;
  margin-top: 10px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  max-width: 760px;
}
.line :deep(.n-input) {
  width: 300px;
}
.foot {
  display: flex;
  justify-content: flex-end;
  align-items: start;
  grid-column: 2;
}
.bad {
  color: var(--bad);
}
p {
  margin: 4px 0;
}
:deep(.n-form-item) {
  --n-feedback-height: 8px !important;
}
@media (max-width: 700px) {
  .grid {
    grid-template-columns: 1fr;
  }
  .foot {
    grid-column: 1;
  }
}
</style>
