<script setup lang="ts">
import { NAlert, NButton, NDrawer, NDrawerContent, NProgress } from 'naive-ui'
import { defineAsyncComponent, onMounted, ref } from 'vue'
import { call } from '../api'
import type { Bodies } from '../api'
import Asked from '../components/handover/Asked.vue'
import Documents from '../components/handover/Documents.vue'
import Given from '../components/handover/Given.vue'
import Lookout from '../components/handover/Lookout.vue'
import Paper from '../components/handover/Paper.vue'
import Readiness from '../components/handover/Readiness.vue'
import Sealed from '../components/handover/Sealed.vue'
import { left } from '../format'
import { useMaking } from '../stores/making'
import { useSession } from '../stores/session'

const session = useSession()
const making = useMaking()
const documents = ref<Bodies['Document'][]>([])
onMounted(async () => {
  documents.value = (await making.load(() => call('get', '/documents'))) ?? []
})
const Preview = defineAsyncComponent(() => import('../components/handover/Preview.vue')) // it brings much
</script>

<template>
  <div class="handing">
    <div class="told">
      <NAlert v-if="making.wrong" type="error" :show-icon="false" role="alert" closable @close="making.wrong = ''">{{
        making.wrong
      }}</NAlert>
      <NAlert
        v-else-if="making.said"
        type="success"
        :show-icon="false"
        role="status"
        closable
        @close="making.said = ''"
        >{{ making.said }}</NAlert
      >
      <div v-for="w in making.under" :key="w.id" class="strip" role="status" data-test="making">
        <NProgress
          type="line"
          :percentage="Math.floor((100 * w.done) / Math.max(1, w.total))"
          :show-indicator="false"
          :height="8"
          class="bar" />
        <span class="what">{{ w.text }}</span>
        <span class="faint">{{ left(w.seconds) }}</span>
        <NButton
          v-if="session.mayCommission"
          size="tiny"
          @click="making.attempt('', () => call('post', '/works/{id}/stop', { path: { id: w.id } }))"
          >Stop</NButton
        >
      </div>
    </div>
    <Readiness />
    <Documents :documents="documents" />
    <Given />
    <Lookout />
    <Paper />
    <Asked v-if="session.mayPlan" :documents="documents" />
    <Sealed v-if="session.mayCommission" />
    <NDrawer :show="!!making.preview" :width="860" style="max-width: 100%" @update:show="making.preview = undefined">
      <NDrawerContent :title="making.preview?.title" closable>
        <Preview v-if="making.preview" :key="making.preview.work" :work="making.preview.work" />
      </NDrawerContent>
    </NDrawer>
  </div>
</template>

<style scoped>
.handing {
  max-width: 1100px;
  margin: 0 auto;
  padding: 10px 16px 4px;
}
@media (max-width: 900px) {
  .handing {
    padding: 8px 8px 4px;
  }
}
.told {
  position: sticky;
  top: 0;
  z-index: 2;
}
.told > * {
  margin-bottom: 8px;
}
.bar {
  width: 200px;
}
.what {
  flex: 1;
  min-width: 200px;
}
</style>
