<script setup lang="ts">
import { NAlert, NButton, NCard, NForm, NFormItem, NInput, NInputNumber, useMessage } from 'naive-ui'
import { ref, watch } from 'vue'
import { siteCall } from '../api'
import type { Subnet } from '../api'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import SubnetHint from './SubnetHint.vue'

const session = useSession()
const site = useSite()
const message = useMessage()
interface Form {
  name: string
  prefix: string
  vlan: number | null
  gateway: string
  domain: string
  dns: string
  ntp: string
  log: string
  snmp: string
  kept: string
  ranges: string
}
const forms = ref<Form[]>([])
const wrong = ref('')
const words = (list: string[] | null) => (list ?? []).join(' ')
// What somebody is writing stays when the site changes meanwhile.
let loaded = '[]'
watch(
  () => site.site,
  (s) => {
    if (JSON.stringify(forms.value) !== loaded) return
    forms.value = (s?.subnets ?? []).map((n) => ({
      name: n.name,
      prefix: n.prefix,
      vlan: n.vlan || null,
      gateway: n.gateway,
      domain: n.domain,
      dns: words(n.dns),
      ntp: words(n.ntp),
      log: words(n.log),
      snmp: words(n.snmp),
      kept: (n.keptFree ?? []).map((k) => `${k.range} ${k.reason}`.trim()).join('\n'),
      ranges: (n.ranges ?? []).map((r) => `${r.range} ${r.kind}`).join('\n'),
    }))
    loaded = JSON.stringify(forms.value)
  },
  { immediate: true },
)

const list = (text: string) => text.split(/[\s,;]+/).filter(Boolean)
const lines = (text: string) =>
  text
    .split('\n')
    .map((l) => l.trim())
    .filter(Boolean)
    .map((l) => [l.split(/\s+/)[0], l.replace(/^\S+\s*/, '')])
function subnet(f: Form): Subnet {
  return {
    name: f.name,
    prefix: f.prefix.trim(),
    vlan: f.vlan ?? 0,
    gateway: f.gateway.trim(),
    domain: f.domain.trim(),
    dns: list(f.dns),
    ntp: list(f.ntp),
    log: list(f.log),
    snmp: list(f.snmp),
    keptFree: lines(f.kept).map(([range = '', reason = '']) => ({ range, reason })),
    ranges: lines(f.ranges).map(([range = '', kind = '']) => ({ range, kind })),
  }
}
function add() {
  forms.value.push({
    name: forms.value.length ? `subnet ${forms.value.length + 1}` : 'main',
    prefix: '',
    vlan: null,
    gateway: '',
    domain: '',
    dns: '',
    ntp: '',
    log: '',
    snmp: '',
    kept: '',
    ranges: '',
  })
}
async function save() {
  wrong.value = ''
  try {
    await siteCall('put', '', { body: { ...site.site, subnets: forms.value.map(subnet) } })
    loaded = JSON.stringify(forms.value)
    message.success('Saved')
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
</script>

<template>
  <NForm label-placement="left" label-width="120" size="small" @submit.prevent="save">
    <p class="faint">Several subnets may live on one flat network. Findings about them are in the list of findings.</p>
    <NCard v-for="(f, i) in forms" :key="i" size="small" class="card" :data-test="'subnet-' + i">
      <div class="grid">
        <NFormItem label="Name"><NInput v-model:value="f.name" /></NFormItem>
        <NFormItem label="VLAN id"
          ><NInputNumber v-model:value="f.vlan" :min="1" :max="4094" clearable placeholder="untagged"
        /></NFormItem>
        <NFormItem label="Prefix"
          ><div class="grow">
            <NInput
              v-model:value="f.prefix"
              placeholder="10.40.8.0/22"
              class="mono"
              :input-props="{ 'aria-label': 'Prefix' }" /><SubnetHint :of="f.prefix" /></div
        ></NFormItem>
        <NFormItem label="Gateway"
          ><div class="grow">
            <NInput
              v-model:value="f.gateway"
              placeholder="10.40.8.1"
              class="mono"
              :input-props="{ 'aria-label': 'Gateway' }" /><SubnetHint :of="f.gateway" /></div
        ></NFormItem>
        <NFormItem label="DNS servers"><NInput v-model:value="f.dns" class="mono" /></NFormItem>
        <NFormItem label="Time servers"><NInput v-model:value="f.ntp" class="mono" /></NFormItem>
        <NFormItem label="Domain"><NInput v-model:value="f.domain" /></NFormItem>
        <NFormItem label="Messages to"><NInput v-model:value="f.log" class="mono" /></NFormItem>
        <NFormItem label="SNMP to"><NInput v-model:value="f.snmp" class="mono" /></NFormItem>
        <span />
        <NFormItem label="Kept free"
          ><NInput
            v-model:value="f.kept"
            type="textarea"
            :autosize="{ minRows: 2, maxRows: 6 }"
            placeholder="10.40.8.2-10.40.8.19 servers"
            class="mono"
        /></NFormItem>
        <NFormItem label="Ranges"
          ><NInput
            v-model:value="f.ranges"
            type="textarea"
            :autosize="{ minRows: 2, maxRows: 8 }"
            placeholder="10.40.9.100-10.40.9.149 clock"
            class="mono"
        /></NFormItem>
      </div>
      <div class="foot"><NButton v-if="session.mayPlan" size="tiny" @click="forms.splice(i, 1)">Take out</NButton></div>
    </NCard>
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <div v-if="session.mayPlan" class="foot">
      <NButton data-test="subnet-add" @click="add">Add a subnet</NButton
      ><NButton type="primary" attr-type="submit" data-test="subnet-save">Save</NButton>
    </div>
  </NForm>
</template>

<style scoped>
.card {
  margin-bottom: 10px;
}
.grid {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 16px;
}
.grow {
  flex: 1;
}
.foot {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
}
:deep(.n-form-item) {
  --n-feedback-height: 8px !important;
}
@media (max-width: 700px) {
  .grid {
    grid-template-columns: 1fr;
  }
}
</style>
