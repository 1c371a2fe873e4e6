<script setup lang="ts">
import { NAlert, NButton, NForm, NFormItem, NInput, NModal } from 'naive-ui'
import { reactive, ref, watch } from 'vue'
import { call } from '../api'
import type { Site } from '../api'
import { useSite } from '../site'

const show = defineModel<boolean>('show', { required: true })
const site = useSite()
const form = reactive({ name: '', zone: '', prefix: '', gateway: '', ntp: '', kept: '' })
const wrong = ref('')
watch(show, (open) => {
  if (!open) return
  wrong.value = ''
  const s = site.site
  Object.assign(form, { name: s?.name ?? '', zone: s?.zone ?? '', prefix: s?.subnet.prefix ?? '', gateway: s?.subnet.gateway ?? '', ntp: s?.subnet.ntp ?? '',
    kept: (s?.subnet.keptFree ?? []).map((k) => `${k.range} ${k.reason}`.trim()).join('\n') })
})

async function save() {
  const keptFree = form.kept.split('\n').map((l) => l.trim()).filter(Boolean).map((l) => {
    const [range, ...reason] = l.split(' ')
    return { range, reason: reason.join(' ') }
  })
  try {
    site.site = await call<Site>('PUT', 'site', { name: form.name, zone: form.zone, subnet: { prefix: form.prefix, gateway: form.gateway, ntp: form.ntp, keptFree } })
    show.value = false
    await site.loadPlan()
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
</script>

<template>
  <NModal v-model:show="show" preset="card" title="Site" style="max-width: 520px">
    <NForm label-placement="left" label-width="110" size="small" @submit.prevent="save">
      <NFormItem label="Name"><NInput v-model:value="form.name" placeholder="Skerry Point Ferry Terminal" /></NFormItem>
      <NFormItem label="Time zone"><NInput v-model:value="form.zone" placeholder="Europe/Oslo" /></NFormItem>
      <NFormItem label="Subnet"><NInput v-model:value="form.prefix" placeholder="10.40.8.0/22" class="mono" /></NFormItem>
      <NFormItem label="Gateway"><NInput v-model:value="form.gateway" placeholder="10.40.8.1" class="mono" /></NFormItem>
      <NFormItem label="Time server"><NInput v-model:value="form.ntp" placeholder="10.40.8.5" class="mono" /></NFormItem>
      <NFormItem label="Kept free"><NInput v-model:value="form.kept" type="textarea" :autosize="{ minRows: 2, maxRows: 6 }" placeholder="10.40.8.2-10.40.8.19 servers" class="mono" /></NFormItem>
      <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
      <div class="foot"><NButton @click="show = false">Cancel</NButton><NButton type="primary" attr-type="submit">Save</NButton></div>
    </NForm>
  </NModal>
</template>

<style scoped>
.foot { display: flex; justify-content: flex-end; gap: 8px; margin-top: 12px; }
</style>
