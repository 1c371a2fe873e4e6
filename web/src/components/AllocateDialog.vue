<script setup lang="ts">
import { NAlert, NButton, NForm, NFormItem, NInput, NInputNumber, NModal, NRadio, NRadioGroup } from 'naive-ui'
import { computed, reactive } from 'vue'
import { siteCall } from '../api'
import type { Edited } from '../api'
import { plural } from '../format'
import { usePreview } from '../previewed'
import { useSite } from '../stores/site'
import Comparison from './Comparison.vue'
import SubnetHint from './SubnetHint.vue'
import { Choice } from './choice'

// Gives out addresses to a selection, or to the whole plan.
const show = defineModel<boolean>('show', { required: true })
const props = defineProps<{ tags: string[] }>()
const emit = defineEmits<{ done: [out: Edited] }>()
const site = useSite()
const a = reactive({ way: 'missing', from: '', step: 10, subnet: null as string | null, order: '' })
const subnets = computed(() =>
  (site.site?.subnets ?? []).map((n) => ({ label: `${n.name} ${n.prefix}`, value: n.name })),
)
const body = () => ({
  ...a,
  subnet: a.subnet ?? '',
  ...(props.tags.length ? { tags: props.tags } : { tags: [], all: true }),
})
const { preview, wrong, apply } = usePreview(
  (preview) => siteCall('post', '/addresses', { query: { preview }, body: body() }),
  body,
  show,
  () => a.way !== 'move' || !!a.subnet,
  (out) => emit('done', out),
)
</script>

<template>
  <NModal
    v-model:show="show"
    preset="card"
    :title="`Addresses for ${tags.length ? plural(tags.length, 'entry') : 'the whole plan'}`"
    style="max-width: 780px">
    <NRadioGroup v-model:value="a.way" class="ways">
      <NRadio value="missing">Only where none is given; what is set stays</NRadio>
      <NRadio value="compact">Anew, ascending, without gaps</NRadio>
      <NRadio value="spread">Anew, ascending, spread out</NRadio>
      <NRadio value="move">Into another subnet, keeping host numbers</NRadio>
    </NRadioGroup>
    <NForm label-placement="left" label-width="110" size="small" :show-feedback="false" class="form">
      <NFormItem v-if="a.way === 'compact' || a.way === 'spread'" label="From"
        ><div class="grow">
          <NInput v-model:value="a.from" placeholder="where the ranges begin" class="mono" /><SubnetHint
            :of="a.from" /></div
      ></NFormItem>
      <NFormItem v-if="a.way === 'spread'" label="Step"
        ><NInputNumber :value="a.step" @update:value="(n) => (a.step = n ?? a.step)" :min="2" :max="1024"
      /></NFormItem>
      <NFormItem v-if="a.way === 'move'" label="Subnet"
        ><Choice name="Subnet" v-model:value="a.subnet" :options="subnets"
      /></NFormItem>
      <NFormItem v-if="a.way !== 'move'" label="Order"
        ><Choice
          name="Order"
          v-model:value="a.order"
          :options="[
            { label: tags.length ? 'as selected' : 'as in the plan', value: '' },
            { label: 'by tag', value: 'tag' },
            { label: 'by kind, then tag', value: 'kind' },
          ]"
      /></NFormItem>
    </NForm>
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <template v-else-if="preview">
      <Comparison :of="preview.comparison" />
      <p v-if="preview.kept.length" class="faint">
        Left as they are, because their devices are configured: {{ preview.kept.join(', ') }}
      </p>
    </template>
    <template #footer>
      <div class="foot">
        <NButton @click="show = false">Cancel</NButton
        ><NButton type="primary" :disabled="!preview?.comparison.changed.length" @click="apply">Give out</NButton>
      </div>
    </template>
  </NModal>
</template>

<style scoped>
.ways {
  display: grid;
  gap: 4px;
  margin-bottom: 10px;
}
.form {
  display: grid;
  gap: 8px;
  margin-bottom: 10px;
}
</style>
