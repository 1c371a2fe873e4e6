<script setup lang="ts">
import { NAlert, NModal, NTable } from 'naive-ui'
import { ref, watch } from 'vue'
import { siteCall, siteURL } from '../api'
import type { Survey, SurveyChange } from '../api'
import { clock } from '../format'
import { useSession } from '../stores/session'

// What each survey found, and what that changed.
const session = useSession()
const show = defineModel<boolean>('show', { required: true })
const list = ref<Survey[]>([])
const wrong = ref('')
watch(show, async (open) => {
  if (!open) return
  try {
    list.value = await siteCall('get', '/surveys')
    wrong.value = ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
})
const words = (c: SurveyChange) =>
  `${c.kind} ${c.mac}${c.from && c.to ? ` ${c.from} → ${c.to}` : c.to ? ` at ${c.to}` : c.from ? `, was ${c.from}` : ''}`
const packets = (v: Survey) => siteURL(`surveys/${v.id}/capture`)
</script>

<template>
  <NModal v-model:show="show" preset="card" title="Surveys" style="max-width: 860px" data-test="surveys-dialog">
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <p v-if="!list.length" class="faint">Nobody looked yet.</p>
    <div v-else class="scroll">
      <NTable size="small" :bordered="false">
        <thead>
          <tr>
            <th>Began</th>
            <th>By</th>
            <th>State</th>
            <th>Found</th>
            <th>In each pass</th>
            <th>Since the one before</th>
            <th>Packets</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="v in list" :key="v.id">
            <td>{{ clock(v.began) }}</td>
            <td>{{ v.who }}</td>
            <td>{{ v.state }}</td>
            <td>
              {{ v.found }}<span v-if="v.believed > v.found"> of about {{ v.believed }}</span>
            </td>
            <td>{{ (v.passes ?? []).join(', ') }}</td>
            <td>
              <div v-for="c in (v.changes ?? []).slice(0, 8)" :key="words(c)">{{ words(c) }}</div>
              <div v-if="(v.changes ?? []).length > 8" class="faint">and {{ (v.changes ?? []).length - 8 }} more</div>
              <span v-if="!v.changes?.length">–</span>
            </td>
            <td><a v-if="v.capture && session.mayCommission" :href="packets(v)" data-test="packets">pcapng</a></td>
          </tr>
        </tbody>
      </NTable>
    </div>
  </NModal>
</template>

<style scoped>
.scroll {
  max-height: 60vh;
  overflow: auto;
}
</style>
