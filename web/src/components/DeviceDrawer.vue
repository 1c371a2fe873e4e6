<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { NAlert, NButton, NDrawer, NDrawerContent, NTable } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { siteCall } from '../api'
import type { Device } from '../api'
import { modelOf, placeOf } from '../device'
import { clock } from '../format'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import { Choice } from './choice'

// Everything known of one box, each fact with where it comes from.
const mac = defineModel<string>('mac', { required: true })
const emit = defineEmits<{ attempt: [what: () => Promise<unknown>]; show: [tag: string]; page: [device: Device] }>()
const session = useSession()
const site = useSite()
const plan = usePlan()
const segment = useSegment()
const narrow = useMediaQuery('(max-width: 900px)')
const device = ref<Device | null>(null)
const wrong = ref('')
const show = computed({
  get: () => mac.value !== '',
  set: (open) => {
    if (!open) mac.value = ''
  },
})

async function load() {
  const asked = mac.value
  if (!asked) return
  try {
    const d = await siteCall('get', '/devices/{mac}', { path: { mac: asked } })
    if (mac.value === asked) device.value = d
    wrong.value = ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
watch(mac, () => {
  device.value = null
  void load()
})
watch(() => segment.devices.find((d) => d.mac === mac.value)?.last, load)

const profileOptions = computed(() =>
  site.profiles.map((p) => ({ label: `${p.id}: ${p.maker} ${p.model}`, value: p.id })),
)
const entryOptions = computed(() =>
  plan.entries
    .filter((e) => !e.device && !e.notWired && (!device.value?.profile || e.profile === device.value.profile))
    .map((e) => ({ label: `${e.tag} ${e.place ?? ''}`, value: e.tag })),
)
const act = (what: () => Promise<unknown>) =>
  emit('attempt', async () => {
    await what()
    await Promise.all([plan.settle(), load()])
  })
const choose = (profile: string | null) =>
  act(() => siteCall('put', '/devices/{mac}/profile', { path: { mac: mac.value }, body: { profile: profile ?? '' } }))
const match = (tag: string) =>
  act(() => siteCall('put', '/entries/{tag}/match', { path: { tag }, body: { mac: mac.value } }))
const blink = () => emit('attempt', () => siteCall('post', '/devices/{mac}/blink', { path: { mac: mac.value } }))
</script>

<template>
  <NDrawer v-model:show="show" :width="narrow ? '100%' : 620" placement="right">
    <NDrawerContent :title="mac" closable data-test="device">
      <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
      <template v-if="device">
        <p>
          <strong>{{ placeOf(device) }}</strong>, {{ modelOf(device)
          }}<template v-if="device.profile"> ({{ device.sure }} %, by {{ (device.why ?? []).join(', ') }})</template
          >{{ device.here ? '' : '; not here now' }}
        </p>
        <p v-if="device.state">
          {{ device.state === 'factory' ? 'As from the factory' : 'Set already' }}: {{ device.stateWhy }}.
        </p>
        <NAlert v-if="device.maybe?.length" type="warning" :show-icon="false"
          >Several profiles fit equally: {{ device.maybe.join(', ') }}. Compare its label, and say which it is.</NAlert
        >
        <NAlert
          v-for="c in device.contradictions ?? []"
          :key="c.key"
          type="warning"
          :show-icon="false"
          data-test="contradiction"
          >Its {{ c.key }} is told differently:
          {{ c.facts.map((f) => `${f.value} over ${f.protocol}`).join(', ') }}.</NAlert
        >
        <div v-if="session.mayCommission" class="tools acts">
          <NButton size="small" :disabled="!device.blinks || segment.lookOnly" @click="blink">Blink</NButton>
          <NButton
            size="small"
            :disabled="!device.page || segment.lookOnly"
            data-test="device-page"
            @click="emit('page', device)"
            >Open its page</NButton
          >
          <Choice
            :value="device.profile || null"
            filterable
            clearable
            size="small"
            :options="profileOptions"
            placeholder="Say which profile"
            class="choose"
            name="Profile"
            data-test="device-profile"
            @update:value="choose" />
          <NButton v-if="device.tag" size="small" @click="emit('show', device.tag)">{{ device.tag }}</NButton>
          <Choice
            v-else
            filterable
            size="small"
            :value="null"
            :options="entryOptions"
            placeholder="It is the entry …"
            class="choose"
            name="Entry"
            data-test="device-entry"
            @update:value="match" />
        </div>
        <NTable size="small" :bordered="false" class="facts" data-test="facts">
          <thead>
            <tr>
              <th>Fact</th>
              <th>Value</th>
              <th>Told over</th>
              <th>First</th>
              <th>Last</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="(f, i) in device.facts ?? []" :key="i">
              <tr v-if="f.part && f.part !== device.facts?.[i - 1]?.part">
                <th colspan="5">Behind it: {{ f.part }}</th>
              </tr>
              <tr>
                <td>{{ f.key }}</td>
                <td class="value">{{ f.value }}</td>
                <td>{{ f.protocol }}</td>
                <td>{{ clock(f.first) }}</td>
                <td>{{ clock(f.last) }}</td>
              </tr>
            </template>
          </tbody>
        </NTable>
        <p v-if="!device.facts?.length" class="faint">It was heard, and said nothing of itself.</p>
      </template>
    </NDrawerContent>
  </NDrawer>
</template>

<style scoped>
.acts {
  margin: 10px 0;
}
.choose {
  width: 220px;
}
.value {
  word-break: break-word;
}
.facts :deep(th[colspan]) {
  padding-top: 10px;
}
p {
  margin: 4px 0;
}
</style>
