<script setup lang="ts">
import { NAlert, NButton, NForm, NFormItem, NInput, NInputNumber, NModal } from 'naive-ui'
import { computed, reactive } from 'vue'
import { siteCall } from '../api'
import type { Edited } from '../api'
import { plural } from '../format'
import { usePreview } from '../previewed'
import { useSite } from '../stores/site'
import Comparison from './Comparison.vue'
import SubnetHint from './SubnetHint.vue'
import { Choice } from './choice'

// Entries from quantities: so many of a model in each area.
const show = defineModel<boolean>('show', { required: true })
const emit = defineEmits<{ done: [out: Edited] }>()
const site = useSite()
const q = reactive({
  profile: undefined as string | undefined,
  count: 4,
  pattern: '{area}-CAM-{n:02}',
  areas: '',
  floor: '',
  place: '',
  address: '',
})
const profiles = computed(() => site.profiles.map((p) => ({ label: `${p.kind}: ${p.maker} ${p.model}`, value: p.id })))
const body = () => [{ ...q, areas: q.areas.split(/[\s,;]+/).filter(Boolean) }]
const { preview, wrong, apply } = usePreview(
  (preview) => siteCall('post', '/quantities', { query: { preview }, body: body() }),
  body,
  show,
  () => !!q.profile,
  (out) => emit('done', out),
)
</script>

<template>
  <NModal v-model:show="show" preset="card" title="Entries from quantities" style="max-width: 860px">
    <NForm label-placement="left" label-width="120" size="small" class="form" @submit.prevent="apply">
      <NFormItem label="Model"
        ><Choice name="Model" v-model:value="q.profile" :options="profiles" filterable data-test="quantity-profile"
      /></NFormItem>
      <NFormItem label="How many"
        ><NInputNumber :value="q.count" @update:value="(n) => (q.count = n ?? q.count)" :min="1" :max="5000"
      /></NFormItem>
      <NFormItem label="Areas"
        ><NInput v-model:value="q.areas" placeholder="HALL YARD BERTH1; each gets so many"
      /></NFormItem>
      <NFormItem label="Tags"
        ><NInput v-model:value="q.pattern" placeholder="{area}-CAM-{n:02}" class="mono" data-test="quantity-pattern"
      /></NFormItem>
      <NFormItem label="Place"><NInput v-model:value="q.place" /></NFormItem>
      <NFormItem label="Floor"><NInput v-model:value="q.floor" /></NFormItem>
      <NFormItem label="Addresses"
        ><div class="grow">
          <NInput
            v-model:value="q.address"
            placeholder="first address or range; the next free ones if empty"
            class="mono" /><SubnetHint :of="q.address" /></div
      ></NFormItem>
    </NForm>
    <p class="faint">Patterns take {site}, {area}, {floor}, {kind} and a number: {n}, or {n:02} for two digits.</p>
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <Comparison v-else-if="preview" :of="preview.comparison" />
    <template #footer>
      <div class="foot">
        <NButton @click="show = false">Cancel</NButton>
        <NButton type="primary" :disabled="!preview || !!wrong" data-test="quantity-add" @click="apply"
          >Add {{ plural(preview?.comparison.added.length ?? 0, 'entry') }}</NButton
        >
      </div>
    </template>
  </NModal>
</template>

<style scoped>
.form {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 16px;
}
.form :deep(.n-form-item) {
  --n-feedback-height: 8px !important;
}
@media (max-width: 700px) {
  .form {
    grid-template-columns: 1fr;
  }
}
</style>
