<script setup lang="ts">
import { NButton, NTable } from 'naive-ui'
import { computed } from 'vue'
import { usePlan } from '../stores/plan'
import StateMark from './StateMark.vue'

// What hangs behind an entry, by the plan.
const props = defineProps<{ of: string }>()
defineEmits<{ open: [tag: string] }>()
const plan = usePlan()
const parts = computed(() => plan.entries.filter((e) => e.behind === props.of))
</script>

<template>
  <template v-if="parts.length">
    <h3>Behind it</h3>
    <NTable size="small" :bordered="false" data-test="parts"
      ><tbody>
        <tr v-for="p in parts" :key="p.tag">
          <td>
            <NButton text @click="$emit('open', p.tag)">{{ p.tag }}</NButton>
          </td>
          <td class="mono">{{ p.part || '–' }}</td>
          <td>{{ p.place }}</td>
          <td><StateMark :state="p.state" /></td>
        </tr></tbody
    ></NTable>
  </template>
</template>
