<script setup lang="ts">
import { computed } from 'vue'

// A state is told by its word, by a shape, and by colour last.
const props = defineProps<{ state: string }>()
const shapes: Record<string, [string, string]> = {
  'not wired yet': ['M3 8h2M7 8h2M11 8h2', 'var(--faint)'],
  differs: ['M2.5 2.5h11v11h-11zM5 6.5h6M5 9.5h6M10 4.5l-4 7', 'var(--warn)'],
  planned: ['M8 2.5a5.5 5.5 0 1 0 0 11a5.5 5.5 0 1 0 0-11z', 'var(--faint)'],
  matched: ['M8 2.5a5.5 5.5 0 1 0 0 11a5.5 5.5 0 1 0 0-11zM8 2.5v11M8 5h4.9M8 8h5.5M8 11h4.9', 'var(--faint)'],
  configuring: ['M8 2.5a5.5 5.5 0 1 1-5.5 5.5M8 5v3l2.5 1.5', 'var(--busy)'],
  configured: ['M2.5 2.5h11v11h-11zM5.5 8h5', 'var(--busy)'],
  verified: ['M2 8.5l4 4l8-9', 'var(--ok)'],
  'needs attention': ['M8 2l6.5 11.5h-13zM8 6v4M8 11.5v1', 'var(--bad)'],
}
const unknown: [string, string] = ['M8 2.5a5.5 5.5 0 1 0 0 11a5.5 5.5 0 1 0 0-11z', 'var(--faint)']
const shape = computed(() => shapes[props.state] ?? unknown)
</script>

<template>
  <span class="state" :style="{ color: shape[1] }">
    <svg viewBox="0 0 16 16" width="14" height="14" aria-hidden="true">
      <path
        :d="shape[0]"
        fill="none"
        stroke="currentColor"
        stroke-width="1.7"
        stroke-linejoin="round"
        stroke-linecap="round" />
    </svg>
    {{ state }}
  </span>
</template>

<style scoped>
.state {
  display: inline-flex;
  align-items: center;
  gap: 6px;
  white-space: nowrap;
  font-weight: 500;
}
</style>
