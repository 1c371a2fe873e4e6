<script setup lang="ts">
import { NButton, NCard, NDrawer, NDrawerContent, NInput, NTable } from 'naive-ui'
import { ref } from 'vue'
import { siteCall } from '../../api'
import type { Bodies } from '../../api'
import { useMaking } from '../../stores/making'
import { useHandover } from '../../stores/handover'
import { useSession } from '../../stores/session'

// Whom something goes to is kept, and what changes from then on is told.
const session = useSession()
const handover = useHandover()
const making = useMaking()
const taker = ref('')
const since = ref<Bodies['Since']>()
const when = (at: string) => new Date(at).toLocaleString()
async function give() {
  if (await making.save('give', { document: 'package' }, taker.value)) taker.value = ''
}
async function changes(id: number) {
  since.value = await making.attempt('', () => siteCall('get', '/handovers/{id}/differences', { path: { id } }))
}
</script>

<template>
  <NCard size="small" title="Handed over" class="gap">
    <div v-if="session.mayCommission" class="line">
      <NInput
        v-model:value="taker"
        size="small"
        placeholder="who takes it, and whom they are from"
        class="wide"
        :input-props="{ 'aria-label': 'Who takes it' }"
        @keyup.enter="give" />
      <NButton
        size="small"
        type="primary"
        :disabled="!taker.trim()"
        :loading="making.busy === 'give'"
        data-test="give"
        @click="give"
        >Hand over the package</NButton
      >
    </div>
    <NTable v-if="handover.handovers.length" size="small" :bordered="false" data-test="given">
      <tbody>
        <tr v-for="h in handover.handovers" :key="h.id">
          <td class="tag">{{ when(h.at) }}</td>
          <td>
            <strong>{{ h.to }}</strong>, {{ h.what }} from {{ h.who }}
          </td>
          <td class="do"><NButton size="tiny" @click="changes(h.id)">What changed since</NButton></td>
        </tr>
      </tbody>
    </NTable>
    <p v-else class="faint">
      Nothing was handed over yet. Who has what is kept from then on, and what changed since is told.
    </p>
    <NDrawer :show="!!since" :width="820" style="max-width: 100%" @update:show="since = undefined">
      <NDrawerContent v-if="since" :title="'Since it was handed over to ' + since.handover.to" closable>
        <p v-if="!since.differences.length" data-test="no-differences">Nothing changed.</p>
        <NTable v-else size="small" :bordered="false" data-test="differences">
          <tbody>
            <tr v-for="(d, i) in since.differences" :key="i">
              <td>
                <strong>{{ d.tag }}</strong>
              </td>
              <td>{{ d.column }}</td>
              <td>{{ d.was || 'nothing' }} → {{ d.is || 'nothing' }}</td>
            </tr>
          </tbody>
        </NTable>
      </NDrawerContent>
    </NDrawer>
  </NCard>
</template>

<style scoped src="./style.css"></style>
