<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Reckoning } from '../api'
import { call } from '../api'
import { usePlan } from '../stores/plan'
import { useSite } from '../stores/site'

// The subnet calculator, at hand wherever an address is typed.
const props = defineProps<{ of: string }>()
const site = useSite()
const plan = usePlan()
const r = ref<Reckoning | null>(null)
let timer: ReturnType<typeof setTimeout> | undefined
watch(
  () => [props.of, plan.revision],
  () => {
    clearTimeout(timer)
    if (!/^\d+\.\d+\.\d+\.\d+(\/\d+)?$/.test(props.of)) return void (r.value = null)
    timer = setTimeout(async () => {
      r.value = await call('get', '/reckon', { query: { of: props.of, site: site.key } }).catch(() => null)
    }, 150)
  },
  { immediate: true },
)
</script>

<template>
  <div v-if="r" class="faint hint" data-test="reckoning">
    {{ r.subnet ? `${r.subnet}: ` : '' }}<span class="mono">{{ r.prefix }}</span
    >, network <span class="mono">{{ r.network }}</span>, broadcast <span class="mono">{{ r.broadcast }}</span>, hosts
    <span class="mono">{{ r.first }}</span> to <span class="mono">{{ r.last }}</span>, {{ r.hosts }} usable{{
      r.subnet ? `, ${r.left} left; this address is ${r.text || r.is}` : ''
    }}
  </div>
</template>

<style scoped>
.hint {
  font-size: 12px;
  line-height: 1.35;
}
</style>
