<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import {
  NAlert,
  NButton,
  NDescriptions,
  NDescriptionsItem,
  NDrawer,
  NDrawerContent,
  NPopconfirm,
  NTable,
  NTimeline,
  NTimelineItem,
} from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { isSecret, siteCall } from '../api'
import { inShort } from '../sheet/columns'
import type { Credential, Detail } from '../api'
import { clock } from '../format'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { useWork } from '../stores/work'
import CheckTable from './CheckTable.vue'
import FactTable from './FactTable.vue'
import PartTable from './PartTable.vue'
import StateMark from './StateMark.vue'
import { Choice } from './choice'

const tag = defineModel<string>('tag', { required: true })
const emit = defineEmits<{ attempt: [what: () => Promise<unknown>] }>()
const session = useSession()
const plan = usePlan()
const segment = useSegment()
const work = useWork()
const narrow = useMediaQuery('(max-width: 900px)')
const detail = ref<Detail | null>(null)
const wrong = ref('')
const login = ref<{ user?: string; password: string } | null>(null)
const show = computed({
  get: () => tag.value !== '',
  set: (open) => {
    if (!open) tag.value = ''
  },
})

async function load() {
  const asked = tag.value
  if (!asked) return
  try {
    const d = await siteCall('get', '/entries/{tag}', { path: { tag: asked } })
    if (tag.value === asked) detail.value = d
    wrong.value = ''
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
watch(tag, () => {
  detail.value = null
  login.value = null
  others.value = []
  void load()
})
watch(() => [plan.revision, work.stepOf(tag.value)?.step], load)

// Boxes that this entry could be: of its profile, or of none known.
const candidates = computed(() =>
  segment.devices
    .filter((d) => !d.tag && (!d.profile || d.profile === detail.value?.entry.profile))
    .map((d) => ({ label: `${d.mac}  ${d.present || 'no address now'}`, value: d.mac })),
)
const mayMatch = computed(() => ['planned', 'matched', 'needs attention'].includes(detail.value?.entry.state ?? ''))

function match(mac: string) {
  emit('attempt', async () => {
    await siteCall('put', '/entries/{tag}/match', { path: { tag: tag.value }, body: { mac } })
    await Promise.all([plan.settle(), load()])
  })
}
function unmatch() {
  emit('attempt', async () => {
    await siteCall('post', '/matches/undo', { body: { tags: [tag.value], configured: undone.value } })
    await Promise.all([plan.settle(), load()])
  })
}
function reveal(id = 0) {
  emit('attempt', async () => {
    login.value = await siteCall('post', '/entries/{tag}/reveal', {
      path: { tag: tag.value },
      query: id ? { credential: id } : {},
    })
    await load()
  })
}
const others = ref<Credential[]>([])
async function older() {
  others.value = await siteCall('get', '/entries/{tag}/credentials', { path: { tag: tag.value } }).catch(() => [])
}
function byHand() {
  emit('attempt', async () => {
    await siteCall('post', '/set-by-hand', { body: { tags: [tag.value] } })
    await Promise.all([plan.settle(), load()])
  })
}
// A box of the same model that no entry has may take the place of this one.
const spares = computed(() =>
  detail.value?.entry.device && ['configured', 'verified', 'needs attention'].includes(detail.value.entry.state)
    ? candidates.value
    : [],
)
function replace(mac: string) {
  emit('attempt', async () => {
    await siteCall('post', '/entries/{tag}/replace', { path: { tag: tag.value }, body: { mac } })
    await siteCall('post', '/runs', { body: { tags: [tag.value] } })
    await Promise.all([plan.settle(), load()])
  })
}
const undone = computed(() => !!detail.value && ['configured', 'verified'].includes(detail.value.entry.state))

function revealSetting(key: string) {
  emit('attempt', async () => {
    const shown = await siteCall('post', '/entries/{tag}/reveal', { path: { tag: tag.value }, query: { setting: key } })
    login.value = { user: key, password: shown.password }
    await load()
  })
}
</script>

<template>
  <NDrawer v-model:show="show" :width="narrow ? '100%' : 620" placement="right">
    <NDrawerContent :title="tag" closable :native-scrollbar="false">
      <NAlert v-if="wrong" type="error" :show-icon="false">{{ wrong }}</NAlert>
      <template v-if="detail">
        <div class="top">
          <StateMark :state="detail.entry.state" />
          <span v-if="detail.entry.reason" class="bad">{{ detail.entry.reason }}</span>
        </div>
        <p v-if="detail.entry.notLookedAt?.length" data-test="not-looked-at">
          Not looked at: {{ detail.entry.notLookedAt.join(', ') }}
        </p>
        <p v-if="detail.entry.handBy" class="faint">
          Set by hand, as {{ detail.entry.handBy }} marked it {{ clock(detail.entry.handAt) }}.
        </p>
        <p v-else-if="detail.entry.byHand && detail.entry.state === 'matched'">
          No run can set this model.
          <NButton v-if="session.mayCommission" size="tiny" data-test="set-by-hand" @click="byHand"
            >Mark as set by hand</NButton
          >
        </p>
        <p v-for="d in detail.entry.differs ?? []" :key="d" class="bad">Differs: {{ d }}</p>
        <NDescriptions :column="narrow ? 1 : 2" size="small" label-placement="left" bordered>
          <NDescriptionsItem label="Place">{{ detail.entry.place || '–' }}</NDescriptionsItem>
          <NDescriptionsItem label="Profile">{{ detail.entry.profile }}</NDescriptionsItem>
          <NDescriptionsItem v-if="!detail.entry.behind" label="Planned"
            ><span class="mono">{{ detail.entry.address }}</span></NDescriptionsItem
          >
          <NDescriptionsItem v-if="!detail.entry.behind" label="Present"
            ><span class="mono">{{ detail.entry.present || '–' }}</span>
            <span v-if="!detail.entry.present && detail.entry.lastAddress" class="faint">
              was {{ detail.entry.lastAddress }} {{ clock(detail.entry.lastAddressAt) }}</span
            ></NDescriptionsItem
          >
          <NDescriptionsItem v-if="detail.entry.behind" label="Behind" :span="2"
            >{{ detail.entry.behind }}{{ detail.entry.part ? ', which calls it ' : ''
            }}<span class="mono">{{ detail.entry.part }}</span>
            <span v-if="!detail.entry.part" class="faint"
              >, what that calls it is not known yet</span
            ></NDescriptionsItem
          >
          <NDescriptionsItem v-else label="Name">{{ detail.entry.name }}</NDescriptionsItem>
          <NDescriptionsItem label="Serial">{{
            detail.entry.boxSerial || detail.entry.serial || '–'
          }}</NDescriptionsItem>
          <NDescriptionsItem v-if="!detail.entry.behind" label="MAC"
            ><span class="mono">{{ detail.entry.device || detail.entry.mac || '–' }}</span></NDescriptionsItem
          >
          <NDescriptionsItem v-if="!detail.entry.behind" label="Last heard">{{
            clock(detail.entry.seen)
          }}</NDescriptionsItem>
          <NDescriptionsItem label="Match" :span="2"
            >{{ detail.entry.matchedWhy || 'none' }}
            <NButton v-if="detail.entry.device && mayMatch" size="tiny" style="margin-left: 8px" @click="unmatch"
              >Undo</NButton
            >
            <NPopconfirm v-else-if="undone" @positive-click="unmatch"
              ><template #trigger><NButton size="tiny" style="margin-left: 8px">Undo</NButton></template
              >Its device was set. Undo the match all the same?</NPopconfirm
            >
          </NDescriptionsItem>
          <NDescriptionsItem v-if="!detail.entry.behind" label="Login" :span="2">
            <template v-if="login"
              ><span class="mono">{{ login.user }} / {{ login.password }}</span>
              <NButton size="tiny" @click="login = null">Hide</NButton></template
            >
            <template v-else-if="detail.login"
              >{{ detail.login.user }}, {{ detail.login.state }} {{ clock(detail.login.at)
              }}{{ detail.login.toldBy ? ', ' + detail.login.toldBy : '' }}
              <NButton size="tiny" style="margin-left: 8px" @click="reveal()">Show (recorded)</NButton>
              <NButton size="tiny" style="margin-left: 4px" @click="older">Others</NButton>
              <div v-for="c in others.slice(1)" :key="c.id" class="faint">
                {{ c.user }}, {{ c.state }} {{ clock(c.at) }}, {{ c.origin }}
                <NButton size="tiny" @click="reveal(c.id)">Show (recorded)</NButton>
              </div></template
            >
            <template v-else>none stored</template>
          </NDescriptionsItem>
        </NDescriptions>
        <Choice
          name="Match by hand: choose a box"
          v-if="!detail.entry.device && mayMatch && !detail.entry.behind"
          :options="candidates"
          filterable
          placeholder="Match by hand: choose a box"
          class="gap"
          :value="null"
          @update:value="match" />

        <Choice
          v-if="spares.length && session.mayCommission"
          :options="spares"
          filterable
          placeholder="Replace it: choose the new box, which is then commissioned"
          class="gap"
          :value="null"
          name="New box"
          @update:value="replace" />

        <PartTable :of="tag" @open="(part) => (tag = part)" />

        <template v-if="detail.settings.some((v) => v.value)">
          <h3>Settings</h3>
          <NTable size="small" :bordered="false"
            ><tbody>
              <tr v-for="v in detail.settings.filter((x) => x.value)" :key="v.key">
                <td>{{ v.label }}</td>
                <td class="mono">{{ isSecret(v.value) ? '••• in the vault' : inShort(v.value) }}</td>
                <td class="faint">
                  {{ v.from }}
                  <NButton v-if="isSecret(v.value)" size="tiny" @click="revealSetting(v.key)">Show (recorded)</NButton>
                </td>
              </tr>
            </tbody></NTable
          >
        </template>

        <h3>Checks</h3>
        <CheckTable v-if="detail.checks?.length" :tag="tag" :checks="detail.checks" :narrow="narrow" />
        <p v-else class="faint">Not verified yet.</p>

        <FactTable v-if="detail.device?.facts?.length" :facts="detail.device.facts" />

        <template v-if="!detail.checks?.length">
          <h3>What commissioning does</h3>
          <ol class="steps">
            <li v-for="s in detail.steps" :key="s.name">{{ s.text }}</li>
          </ol>
        </template>

        <h3>History</h3>
        <NTimeline size="medium">
          <NTimelineItem
            v-for="(n, i) in [...detail.history].reverse()"
            :key="i"
            :content="n.what"
            :time="`${clock(n.at)}, ${n.who}`"
            :type="n.wrong ? 'error' : 'default'" />
        </NTimeline>
      </template>
    </NDrawerContent>
  </NDrawer>
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
  margin-bottom: 10px;
}
.bad {
  color: var(--bad);
}
.gap {
  margin-top: 10px;
}
.steps {
  margin: 0;
  padding-left: 1.4rem;
}
:deep(.n-descriptions-table-header) {
  white-space: nowrap;
}
</style>
