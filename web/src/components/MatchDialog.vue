<script setup lang="ts">
import { NAlert, NButton, NDataTable, NModal } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { ref, watch } from 'vue'
import { siteCall } from '../api'
import type { Proposal } from '../api'
import { plural } from '../format'
import { useSite } from '../site'

const show = defineModel<boolean>('show', { required: true })
const site = useSite()
const chosen = ref<string[]>([])
const wrong = ref('')
watch(show, () => {
  wrong.value = ''
  chosen.value = site.proposals.proposals.map((p) => p.tag)
})

async function accept() {
  try {
    await siteCall('POST', 'matches', { tags: chosen.value })
    await site.loadPlan()
    show.value = false
  } catch (e) {
    wrong.value = (e as Error).message
  }
}

const columns: DataTableColumns<Proposal> = [
  { type: 'selection' },
  { title: 'Entry', key: 'tag', width: 150, sorter: 'default' },
  { title: 'MAC', key: 'mac', width: 160 },
  { title: 'Serial', key: 'serial', width: 130, render: (p) => p.serial || '–' },
  { title: 'Matched', key: 'by', width: 100, sorter: 'default', render: (p) => 'by ' + (p.by === 'mac' ? 'MAC' : p.by) },
  { title: 'Sure', key: 'sure', width: 80, sorter: 'default', render: (p) => `${p.sure} %` },
  { title: 'Why', key: 'why' },
]
</script>

<template>
  <NModal v-model:show="show" preset="card" title="Which box is which" style="max-width: 1000px">
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <p v-for="o in site.proposals.open" :key="o.profile + o.tag" class="open"><strong>Open:</strong> {{ o.profile }} {{ o.tag }}: {{ o.why }}</p>
    <NDataTable v-model:checked-row-keys="chosen" :columns="columns" :data="site.proposals.proposals" :row-key="(p: Proposal) => p.tag" size="small" :max-height="420" virtual-scroll :scroll-x="880" />
    <template #footer>
      <div class="foot">
        <NButton @click="show = false">Cancel</NButton>
        <NButton type="primary" :disabled="!chosen.length" data-test="match-accept" @click="accept">Accept {{ plural(chosen.length, 'match').replace('matchs', 'matches') }}</NButton>
      </div>
    </template>
  </NModal>
</template>

<style scoped>
.open { margin: 0 0 8px; }
.foot { display: flex; justify-content: flex-end; gap: 8px; }
</style>
