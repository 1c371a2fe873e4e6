<script setup lang="ts">
import { NAlert, NButton, NInput, NModal, NTable } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { siteCall } from '../api'
import type { Asker } from '../api'
import { plural } from '../format'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'

// Gives boxes that wait for DHCP their planned addresses: exactly the listed
// ones that have an entry, and nobody else.
const show = defineModel<boolean>('show', { required: true })
const plan = usePlan()
const segment = useSegment()
const askers = ref<Asker[]>([])
const beside = ref('')
const wrong = ref('')
watch(show, async (open) => {
  if (!open) return
  try {
    askers.value = await siteCall('get', '/askers')
    wrong.value = ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
})
const ready = computed(() => askers.value.filter((a) => a.tag))
const address = (tag: string) => plan.entries.find((e) => e.tag === tag)?.address || '–'
const servers = computed(() => segment.findings.filter((f) => f.kind.startsWith('dhcp-server')))
async function begin() {
  try {
    await siteCall('post', '/leases', {
      body: { tags: ready.value.map((a) => a.tag), otherServers: beside.value.split(/[\s,;]+/).filter(Boolean) },
    })
    show.value = false
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
</script>

<template>
  <NModal
    v-model:show="show"
    preset="card"
    title="Give planned addresses over DHCP"
    style="max-width: 760px"
    data-test="hand-out-dialog">
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <p>
      Only the boxes below that have an entry are answered; nobody else, ever. It ends by itself when each has its
      address, or after three minutes.
    </p>
    <NTable size="small" :bordered="false">
      <thead>
        <tr>
          <th>Box</th>
          <th>Asks as</th>
          <th>Entry</th>
          <th>Gets</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="a in askers" :key="a.mac">
          <td class="mono">{{ a.mac }}</td>
          <td>{{ a.class || a.host || '–' }}</td>
          <td>{{ a.tag || 'none: match it first' }}</td>
          <td class="mono">{{ a.tag ? address(a.tag) : 'nothing' }}</td>
        </tr>
      </tbody>
    </NTable>
    <NAlert v-for="f in servers" :key="f.text" type="warning" :show-icon="false">{{ f.text }}; {{ f.next }}.</NAlert>
    <p>
      <label
        >Go on beside these DHCP servers:
        <NInput
          v-model:value="beside"
          size="small"
          placeholder="none; it refuses to begin while another one answers"
          data-test="beside"
      /></label>
    </p>
    <template #footer>
      <div class="foot">
        <NButton @click="show = false">Cancel</NButton>
        <NButton type="primary" :disabled="!ready.length || segment.lookOnly" data-test="hand-out-begin" @click="begin"
          >Give {{ plural(ready.length, 'address').replace('addresss', 'addresses') }}</NButton
        >
      </div>
    </template>
  </NModal>
</template>
