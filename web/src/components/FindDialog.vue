<script setup lang="ts">
import { NAlert, NButton, NCheckbox, NInput, NModal, NRadio, NRadioGroup, NSpin, NTable } from 'naive-ui'
import { ref, watch } from 'vue'
import { call, siteCall } from '../api'
import type { Interface, SegmentPlug } from '../api'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { useWork } from '../stores/work'

// Before anything is sent: which interface, how fast, and where to look besides.
const show = defineModel<boolean>('show', { required: true })
const session = useSession()
const plan = usePlan()
const segment = useSegment()
const work = useWork()
const interfaces = ref<Interface[] | null>(null)
const segments = ref<SegmentPlug[]>([])
const pace = ref<'normal' | 'gentle' | 'look'>('normal')
const ranges = ref('')
const capture = ref(false)
const wrong = ref('')

async function listen() {
  interfaces.value = null
  try {
    segments.value = await call('get', '/segments')
    interfaces.value = await call('get', '/interfaces', { query: { listen: 2 } })
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
watch(show, (open) => {
  wrong.value = ''
  if (open) void listen()
})

async function plug(name: string) {
  try {
    await siteCall('put', '/segment', { body: { interface: name } })
    await plan.settle()
    await listen()
  } catch (e) {
    wrong.value = (e as Error).message
  }
}

async function begin() {
  try {
    await siteCall('post', '/surveys', {
      body: {
        pace: pace.value === 'normal' ? 0 : 50,
        lookOnly: pace.value === 'look',
        capture: capture.value,
        ranges: ranges.value.split(/[\s,;]+/).filter(Boolean),
      },
    })
    show.value = false
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
const link = (i: Interface) => (!i.up ? 'off' : !i.link ? 'no link' : i.speed ? `${i.speed} Mbit/s` : 'link')
</script>

<template>
  <NModal v-model:show="show" preset="card" title="Find" style="max-width: 860px" data-test="find-dialog">
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <h3>Plugged into</h3>
    <p>{{ segment.name || 'nothing' }}{{ segment.lookOnly ? '; this service only looks' : '' }}</p>
    <ul v-if="segments.length > 1" class="segments" data-test="segments">
      <li v-for="s in segments" :key="s.name">
        {{ s.name }}{{ s.here ? (s.dark ? ', no link' : '') : ', gone; waited for'
        }}<span v-if="s.sites.length" class="faint">, used by {{ s.sites.join(', ') }}</span>
        <NButton v-if="s.name !== segment.name" size="tiny" :disabled="session.rights !== 'own'" @click="plug(s.name)"
          >Use it</NButton
        >
      </li>
    </ul>
    <NSpin v-if="!interfaces" size="small" description="Listening to each interface; nothing is sent" />
    <NTable v-else size="small" :bordered="false" data-test="interfaces">
      <thead>
        <tr>
          <th>Interface</th>
          <th>Link</th>
          <th>Own addresses</th>
          <th>Heard in 2 s</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="i in interfaces" :key="i.name">
          <td>
            <strong>{{ i.name }}</strong>
            <div class="faint">
              {{ i.wireless ? 'wireless' : 'wired' }} <span class="mono">{{ i.mac }}</span>
            </div>
          </td>
          <td>{{ link(i) }}</td>
          <td>{{ (i.addresses ?? []).join(' ') || '–' }}</td>
          <td>
            <template v-if="i.hears"
              >{{ i.hears.frames }} frames, {{ i.hears.senders }} senders
              <div v-if="i.hears.subnets.length" class="faint">{{ i.hears.subnets.join(' ') }}</div></template
            ><template v-else>–</template>
            <div v-for="w in i.warnings" :key="w" class="warn">◆ {{ w }}</div>
          </td>
          <td>
            <span v-if="i.name === segment.name">in use</span
            ><NButton v-else size="tiny" :disabled="!i.up || session.rights !== 'own'" @click="plug(i.name)"
              >Use it</NButton
            >
          </td>
        </tr>
      </tbody>
    </NTable>
    <h3>How</h3>
    <NRadioGroup v-model:value="pace" name="pace">
      <NRadio value="normal" label="Normal: 1,000 frames a second" />
      <NRadio value="gentle" label="Gentle: 50, for a live plant" data-test="gentle" />
      <NRadio value="look" label="Look only: gentle, and no conversation with any device" />
    </NRadioGroup>
    <h3>Where besides the plan</h3>
    <NInput
      v-model:value="ranges"
      placeholder="172.23.0.0/16, 10.0.0.1-10.0.0.99"
      :input-props="{ 'aria-label': 'Ranges' }"
      data-test="find-ranges" />
    <p>
      <NCheckbox v-model:checked="capture" data-test="find-capture"
        >Keep the packets, for an analyser; passwords typed meanwhile may be among them</NCheckbox
      >
    </p>
    <template #footer>
      <div class="foot">
        <NButton @click="show = false">Cancel</NButton>
        <NButton type="primary" :disabled="!segment.name || work.finding" data-test="find-begin" @click="begin"
          >Find</NButton
        >
      </div>
    </template>
  </NModal>
</template>

<style scoped>
h3 {
  margin: 12px 0 4px;
  font-size: 14px;
}
p {
  margin: 6px 0;
}
td .mono {
  white-space: nowrap;
}
.warn {
  color: var(--warn);
}
</style>
