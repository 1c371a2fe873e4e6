<script setup lang="ts">
import { NTabPane, useDialog, useMessage } from 'naive-ui'
import { Tabs } from '../components/tabs'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, siteCall } from '../api'
import Attention from '../components/Attention.vue'
import DeviceTable from '../components/DeviceTable.vue'
import EntryDrawer from '../components/EntryDrawer.vue'
import EntryTable from '../components/EntryTable.vue'
import ImportDialog from '../components/ImportDialog.vue'
import RehearsalDialog from '../components/RehearsalDialog.vue'
import StageBar from '../components/StageBar.vue'
import { usePlan } from '../stores/plan'

defineProps<{ tab: string }>()
const plan = usePlan()
const router = useRouter()
const message = useMessage()
const dialog = useDialog()
const importing = ref(false)
const rehearsing = ref(false)
const chosen = ref<string[]>([])
const shown = ref('')
const stateFilter = ref<string[]>([])

/** Does something and says in words what went wrong, if anything did. */
async function attempt(what: () => Promise<unknown>) {
  try {
    await what()
  } catch (e) {
    message.error((e as Error).message, { duration: 8000, closable: true })
  }
}

function commission(tags: string[]) {
  chosen.value = tags
  rehearsing.value = true
}

function verify(tags: string[]) {
  void attempt(() => siteCall('post', '/verifications', { body: tags.length ? { tags } : { all: true } }))
}

function unmatch(tags: string[]) {
  void attempt(async () => {
    await siteCall('post', '/matches/undo', { body: { tags } })
    await plan.settle()
  })
}

function find() {
  void router.push('/devices')
  void attempt(() => siteCall('post', '/surveys', { body: {} }))
}

function giveUp(run: number) {
  dialog.warning({
    title: 'Give up the run?',
    content: 'Devices that were not finished stay as they are and will need attention. Nothing is undone on them.',
    positiveText: 'Give it up',
    negativeText: 'Keep it',
    onPositiveClick: () =>
      attempt(async () => {
        await siteCall('post', '/runs/{id}/give-up', { path: { id: run } })
        await plan.settle()
      }),
  })
}
</script>

<template>
  <div class="home">
    <StageBar
      @plan="importing = true"
      @find="find"
      @match="router.push('/match')"
      @commission="commission([])"
      @verify="verify([])"
      @handover="router.push('/handover')"
      @stop="(work) => attempt(() => call('post', '/works/{id}/stop', { path: { id: work } }))"
      @resume="(run) => attempt(() => siteCall('post', '/runs/{id}/resume', { path: { id: run } }))"
      @give-up="giveUp" />
    <Attention @attempt="attempt" @show="shown = $event" @filter="stateFilter = [$event]" />
    <Tabs
      :value="tab"
      type="line"
      size="small"
      class="tabs"
      pane-class="pane"
      @update:value="router.push($event === 'entries' ? '/' : '/' + $event)">
      <NTabPane name="entries" tab="Entries" display-directive="if">
        <EntryTable
          v-model:states="stateFilter"
          @show="shown = $event"
          @commission="commission"
          @verify="verify"
          @unmatch="unmatch"
          @import="importing = true" />
      </NTabPane>
      <NTabPane name="devices" tab="Found on the segment" display-directive="if">
        <DeviceTable @show="shown = $event" @attempt="attempt" />
      </NTabPane>
    </Tabs>
    <ImportDialog v-model:show="importing" />
    <RehearsalDialog v-model:show="rehearsing" :tags="chosen" />
    <EntryDrawer v-model:tag="shown" @attempt="attempt" />
  </div>
</template>

<style scoped>
.home {
  height: 100%;
  display: flex;
  flex-direction: column;
  padding: 10px 16px;
  box-sizing: border-box;
}
.tabs {
  flex: 1;
  min-height: 0;
  margin-top: 4px;
}
.tabs :deep(.n-tabs-pane-wrapper),
.tabs :deep(.pane) {
  height: 100%;
}
.tabs :deep(.pane) {
  padding-top: 8px !important;
  box-sizing: border-box;
}
@media (max-width: 900px) {
  .home {
    height: auto;
    min-height: 100%;
    padding: 6px 8px;
  }
}
</style>
