<script setup lang="ts">
import { NAlert, NButton, NCheckbox, NCheckboxGroup, NCollapse, NCollapseItem, NModal, NSpin } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { siteCall } from '../api'
import type { Rehearsal } from '../api'
import { plural } from '../format'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { Choice } from './choice'

const show = defineModel<boolean>('show', { required: true })
const props = defineProps<{ tags: string[] }>()
const plan = usePlan()
const segment = useSegment()
const rehearsal = ref<Rehearsal | null>(null)
const wrong = ref('')
const restarts = computed(() => rehearsal.value?.devices.filter((d) => d.steps.some((s) => s.restarts)).length ?? 0)
// What is left out for one reason is said once.
const left = computed(() => {
  const by = new Map<string, string[]>()
  for (const l of rehearsal.value?.left ?? [])
    if (!rehearsal.value!.needLine.includes(l.tag)) by.set(l.why, [...(by.get(l.why) ?? []), l.tag])
  return [...by]
})
// Who waits for an address must not be given one by somebody else.
const beside = ref<string[]>([])
const servers = computed(() =>
  rehearsal.value?.devices.some((d) => d.steps.some((s) => s.lends))
    ? [
        ...new Set(
          segment.devices
            .filter((d) => d.here && d.facts.some((f) => f.key === 'gives'))
            .map((d) => d.lastAddress)
            .filter(Boolean),
        ),
      ]
    : [],
)
// Some are set at a console on a serial line, which is named for each.
const lines = ref<Record<string, string>>({})
const atLine = computed(() => [...Object.keys(lines.value), ...(rehearsal.value?.needLine ?? [])].sort())
const freeLines = (tag: string) =>
  (rehearsal.value?.lines ?? [])
    .filter((l) => !Object.entries(lines.value).some(([t, used]) => t !== tag && used === l))
    .map((l) => ({ label: l, value: l }))
async function rehearse() {
  wrong.value = ''
  try {
    rehearsal.value = await siteCall('post', '/rehearsals', {
      body: { ...(props.tags.length ? { tags: props.tags } : { all: true }), lines: lines.value },
    })
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
watch(show, async (open) => {
  if (!open) return
  rehearsal.value = null
  lines.value = {}
  capture.value = false
  await rehearse()
})
async function nameLine(tag: string, line: string | null) {
  const next = { ...lines.value }
  if (line) next[tag] = line
  else delete next[tag]
  lines.value = next
  await rehearse()
}

const capture = ref(false)
async function begin() {
  try {
    await siteCall('post', '/runs', {
      body: {
        tags: rehearsal.value!.devices.map((d) => d.tag),
        otherServers: beside.value,
        lines: lines.value,
        capture: capture.value,
      },
    })
    show.value = false
  } catch (e) {
    wrong.value = (e as Error).message
  }
}

// A very long rehearsal is shown in part; the command line prints all of it.
const most = 200
const profileOf = (id: string) => plan.entries.find((e) => e.profile === id)?.kind ?? id
</script>

<template>
  <NModal v-model:show="show" preset="card" title="Rehearsal" style="max-width: 860px">
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <NSpin v-else-if="!rehearsal" />
    <template v-else>
      <p class="sum">
        <strong>{{ plural(rehearsal.devices.length, 'device') }}</strong> would be set side by side in about
        {{ Math.ceil(rehearsal.seconds) }} s; {{ restarts }} would restart. Nothing was sent yet.
      </p>
      <div v-if="servers.length" class="sum" data-test="beside">
        Some wait for an address over DHCP. Other servers that may go on meanwhile:
        <NCheckboxGroup :value="beside" @update:value="(keys) => (beside = keys as string[])"
          ><NCheckbox v-for="a in servers" :key="a" :value="a" :label="a"
        /></NCheckboxGroup>
      </div>
      <p v-for="tag in atLine" :key="tag" class="sum line" data-test="line">
        {{ tag }} is set at its console, on the serial line
        <Choice
          :value="lines[tag] ?? null"
          :options="freeLines(tag)"
          size="small"
          clearable
          placeholder="none named"
          :name="`Serial line of ${tag}`"
          class="lines"
          @update:value="(l: string | null) => nameLine(tag, l)" />
      </p>
      <div class="left">
        <p v-for="[why, tags] in left" :key="why" class="sum">
          <strong>Left out:</strong> {{ tags.slice(0, 6).join(', ')
          }}{{ tags.length > 6 ? ` and ${tags.length - 6} more` : '' }}: {{ why }}
        </p>
      </div>
      <div class="list">
        <NCollapse :key="rehearsal.devices[0]?.tag" :default-expanded-names="rehearsal.devices[0]?.tag">
          <NCollapseItem v-for="d in rehearsal.devices.slice(0, most)" :key="d.tag" :name="d.tag">
            <template #header
              ><strong>{{ d.tag }}</strong
              >&nbsp;<span class="faint">{{ profileOf(d.profile) }}, {{ d.mac }}</span></template
            >
            <p v-if="d.after?.length" class="faint">
              Begun when {{ d.after.join(' and ') }} {{ d.after.length > 1 ? 'are' : 'is' }} set.
            </p>
            <ol class="steps">
              <li v-for="s in d.steps" :key="s.name">{{ s.text }}</li>
            </ol>
            <p v-if="d.notSent?.length" class="faint">Planned, but set by hand: {{ d.notSent.join(', ') }}</p>
          </NCollapseItem>
        </NCollapse>
        <p v-if="rehearsal.devices.length > most" class="faint">
          and {{ rehearsal.devices.length - most }} more of the same kinds
        </p>
      </div>
      <NCheckbox v-model:checked="capture" class="keep" data-test="run-capture"
        >Keep the packets, sealed: they are handed over as evidence</NCheckbox
      >
    </template>
    <template #footer>
      <div class="foot">
        <NButton @click="show = false">Cancel</NButton>
        <NButton type="primary" :disabled="!rehearsal?.devices.length" data-test="run-begin" @click="begin"
          >Commission {{ plural(rehearsal?.devices.length ?? 0, 'device') }}</NButton
        >
      </div>
    </template>
  </NModal>
</template>

<style scoped>
.line {
  display: flex;
  gap: 8px;
  align-items: center;
}
.lines {
  width: 200px;
}
.left {
  max-height: 140px;
  overflow: auto;
}
.sum {
  margin: 0 0 8px;
}
.list {
  max-height: 45vh;
  overflow: auto;
}
.steps {
  margin: 0;
  padding-left: 30px;
}
.keep {
  margin-top: 8px;
}
.foot {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
}
</style>
