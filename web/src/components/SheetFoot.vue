<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import type { Entry, Patch } from '../api'
import { siteCall } from '../api'
import { plural } from '../format'
import type { Column } from '../sheet/columns'
import { helpOf, settingOf } from '../sheet/columns'
import { usePlan } from '../stores/plan'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import SubnetHint from './SubnetHint.vue'

// What is to be said of the cell in hand, and of what is typed there.
const props = defineProps<{
  at: { entry: Entry | null; column: Column } | null
  patch: Patch | null
  rows: number
  selected: number
}>()
const emit = defineEmits<{ change: [patches: Patch[], what: string] }>()
const session = useSession()
const site = useSite()
const plan = usePlan()
const typing = ref<string[]>([])
const setting = computed(() =>
  props.at?.entry ? settingOf(site.byId.get(props.at.entry.profile), props.at.column.key) : undefined,
)
const help = computed(() => (setting.value ? helpOf(setting.value) : (props.at?.column.help ?? '')))
const here = computed(() =>
  plan.findings.filter((f) => f.tag && f.tag === props.at?.entry?.tag && f.field === props.at.column.key),
)
let timer: ReturnType<typeof setTimeout> | undefined
const typed = ref('')
watch(
  () => props.patch,
  (patch) => {
    clearTimeout(timer)
    typing.value = []
    typed.value = patch?.set?.address ?? ''
    if (!patch) return
    timer = setTimeout(async () => {
      const out = await siteCall('patch', '/entries', {
        query: { preview: true },
        body: { what: '', patches: [patch], configured: false },
      }).catch(() => null)
      if (!out) return
      // What the change makes wrong, wherever it shows, and what is wrong with the cell anyhow.
      const tag = patch.set?.tag || patch.tag
      const field = props.at?.column.key
      const own = (out.findings ?? []).filter((f) => f.tag === tag && f.field === field).map((f) => f.reason)
      const others = (out.new ?? []).filter((f) => f.tag !== tag).map((f) => `${f.tag}: ${f.reason}`)
      typing.value = [...out.complaints.map((c) => c.reason), ...own, ...others].slice(0, 3)
    }, 150)
  },
)
</script>

<template>
  <div class="says" role="status" data-test="plan-foot">
    <template v-if="typing.length"
      ><span v-for="t in typing" :key="t" class="bad">▲ {{ t }}</span></template
    >
    <template v-else-if="here.length"
      ><span v-for="f in here" :key="f.code" :class="f.level === 'stops' ? 'bad' : 'warn'"
        >{{ f.level === 'stops' ? '▲' : '◆' }} {{ f.reason }}
        <NButton
          v-if="f.mend && session.mayPlan"
          size="tiny"
          @click="emit('change', [{ tag: f.tag, set: { [f.mend.field]: f.mend.value } }], 'mended')"
          >{{ f.mend.field }} = {{ f.mend.value || 'none' }}</NButton
        ></span
      ></template
    >
    <span v-else-if="at?.column.key !== 'address'" class="faint"
      >{{ at?.column.label }}{{ help ? ': ' + help : '' }}</span
    >
    <SubnetHint v-if="at?.column.key === 'address'" :of="typed || at.entry?.address || ''" />
    <span class="faint right"
      >{{ rows === plan.entries.length ? plural(rows, 'entry') : `${rows} of ${plan.entries.length}`
      }}{{ selected > 1 ? `, ${selected} selected` : '' }} · Enter edits, Space opens, Ctrl+C/V a block, Ctrl+D fills
      down</span
    >
  </div>
</template>

<style scoped>
.says {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  min-height: 20px;
  font-size: 13px;
  align-items: center;
}
.right {
  margin-left: auto;
}
</style>
