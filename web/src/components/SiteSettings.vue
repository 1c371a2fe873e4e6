<script setup lang="ts">
import { NAlert, NButton, NForm, NFormItem, NInput, NModal, NTable, useMessage } from 'naive-ui'
import { reactive, ref, watch } from 'vue'
import { call, siteCall } from '../api'
import type { SiteSummary } from '../api'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import SiteFiles from './SiteFiles.vue'
import TakeInDialog from './TakeInDialog.vue'

const session = useSession()
const site = useSite()
const message = useMessage()
const form = reactive({ name: '', key: '', contact: '', notes: '', zone: '', language: '', naming: '' })
const making = ref(false)
const taking = ref(false)
const wrong = ref('')
const doomed = ref<string | null>(null)
const sure = ref('')
const fill = () => {
  const s = making.value ? null : site.site
  Object.assign(form, {
    name: s?.name ?? '',
    key: s?.key ?? '',
    contact: s?.contact ?? '',
    notes: s?.notes ?? '',
    zone: s?.zone ?? '',
    language: s?.language ?? '',
    naming: s?.naming ?? '',
  })
  wrong.value = ''
}
// What somebody is writing stays when the site changes meanwhile.
let loaded = JSON.stringify(form)
function refresh() {
  fill()
  loaded = JSON.stringify(form)
}
watch(
  () => site.site,
  () => {
    if (JSON.stringify(form) === loaded) refresh()
  },
  { immediate: true },
)
watch(making, refresh)

// How far each site is.
const far = ref<SiteSummary[]>([])
watch(
  () => site.sites,
  async () => (far.value = await call('get', '/sites').catch(() => far.value)),
  { immediate: true },
)

async function save() {
  try {
    if (making.value || !site.key) {
      const made = await call('post', '/sites', { body: form })
      making.value = false
      loaded = JSON.stringify(form)
      await site.loadSites()
      site.open(made.key)
    } else {
      const saved = await siteCall('put', '', { body: { ...site.site, ...form } })
      loaded = JSON.stringify(form)
      await site.loadSites()
      if (saved.key !== site.key) site.open(saved.key)
    }
    message.success('Saved')
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
async function remove() {
  try {
    await call('delete', '/sites/{site}', { path: { site: doomed.value! }, query: { sure: sure.value } })
    doomed.value = null
    await site.loadSites()
    site.open(site.key)
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  }
}

function doom(key: string) {
  doomed.value = key
  sure.value = ''
}
</script>

<template>
  <NForm label-placement="left" label-width="130" size="small" @submit.prevent="save">
    <p v-if="!site.key">There is no site yet. A site is one job: its plan, subnets, devices and records.</p>
    <NFormItem label="Name"
      ><NInput
        v-model:value="form.name"
        placeholder="Skerry Point Ferry Terminal"
        :input-props="{ id: 'site-name', 'aria-label': 'Name' }"
    /></NFormItem>
    <NFormItem label="Key"><NInput v-model:value="form.key" placeholder="made from the name" class="mono" /></NFormItem>
    <NFormItem label="Contact"
      ><NInput v-model:value="form.contact" placeholder="who is asked when something is unclear"
    /></NFormItem>
    <NFormItem label="Notes"
      ><NInput
        v-model:value="form.notes"
        type="textarea"
        :autosize="{ minRows: 2, maxRows: 5 }"
        placeholder="what whoever works there should know"
    /></NFormItem>
    <NFormItem label="Time zone"><NInput v-model:value="form.zone" placeholder="Europe/Oslo" /></NFormItem>
    <NFormItem label="Language"><NInput v-model:value="form.language" placeholder="of documents: en, nb" /></NFormItem>
    <NFormItem label="Device names"
      ><NInput v-model:value="form.naming" placeholder="{tag}; or like {site}-{area}-{kind}-{n:02}" class="mono"
    /></NFormItem>
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <div class="foot">
      <NButton v-if="making" @click="making = false">Cancel</NButton>
      <NButton v-else-if="site.key && session.mayPlan" @click="making = true">Another site</NButton>
      <NButton v-if="!making && session.rights === 'own'" data-test="take-site" @click="taking = true"
        >Take in a site</NButton
      >
      <NButton v-if="session.mayPlan" type="primary" attr-type="submit" data-test="site-save">{{
        making || !site.key ? 'Make the site' : 'Save'
      }}</NButton>
    </div>
  </NForm>
  <TakeInDialog v-model:shown="taking" />
  <SiteFiles v-if="site.key && !making" />
  <template v-if="far.length">
    <h3>Sites</h3>
    <NTable size="small" :bordered="false">
      <tbody>
        <tr v-for="s in far" :key="s.key">
          <td>
            <button class="link" @click="site.open(s.key)">{{ s.name }}</button>
          </td>
          <td class="mono">{{ s.key }}</td>
          <td>{{ s.entries }} entries</td>
          <td>{{ s.states.verified ?? 0 }} verified</td>
          <td>
            <NButton v-if="session.rights === 'own'" size="tiny" @click="doom(s.key)">Remove</NButton>
          </td>
        </tr>
      </tbody>
    </NTable>
  </template>
  <NModal
    :show="!!doomed"
    preset="card"
    :title="`Remove ${doomed}?`"
    style="max-width: 520px"
    @update:show="doomed = null">
    <p>The site goes with its plan, devices, runs and history, for good. To be sure, write its key.</p>
    <form @submit.prevent="remove">
      <NInput v-model:value="sure" class="mono" />
      <div class="foot">
        <NButton @click="doomed = null">Cancel</NButton
        ><NButton type="error" attr-type="submit" :disabled="sure !== doomed">Remove for good</NButton>
      </div>
    </form>
  </NModal>
</template>

<style scoped>
.foot {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
  margin-top: 12px;
}
:deep(.n-form-item) {
  --n-feedback-height: 8px !important;
}
</style>
