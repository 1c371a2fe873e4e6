<script setup lang="ts">
import { NAlert, NButton, NInput, NModal } from 'naive-ui'
import { ref } from 'vue'
import { usePreview } from '../previewed'
import { usePlan } from '../stores/plan'
import Comparison from './Comparison.vue'
import { siteCall } from '../api'

// Takes found devices into the plan as new entries; none chosen means all.
const props = defineProps<{ macs: string[] }>()
const show = defineModel<boolean>('show', { required: true })
const emit = defineEmits<{ done: [] }>()
const plan = usePlan()
const area = ref('')
const body = () => ({ ...(props.macs.length ? { macs: props.macs } : { all: true }), tag: '', area: area.value })
const { preview, wrong, apply } = usePreview(
  (preview) => siteCall('post', '/adoptions', { query: { preview }, body: body() }),
  body,
  show,
  () => true,
  () => {
    emit('done')
    void plan.settle()
  },
)
</script>

<template>
  <NModal
    v-model:show="show"
    preset="card"
    title="Take found devices into the plan"
    style="max-width: 820px"
    data-test="adopt-dialog">
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <p>
      What is set already is planned as it is; a fresh device gets the next free address. Each new entry is matched with
      its box.
    </p>
    <p>
      <label>Area <NInput v-model:value="area" size="small" style="width: 160px" placeholder="FOUND" /></label>
    </p>
    <Comparison v-if="preview" :of="preview.comparison" />
    <template #footer>
      <div class="foot">
        <NButton @click="show = false">Cancel</NButton>
        <NButton type="primary" :disabled="!preview || !!wrong" data-test="adopt-apply" @click="apply"
          >Adopt {{ preview?.comparison.added.length ?? '' }}</NButton
        >
      </div>
    </template>
  </NModal>
</template>
