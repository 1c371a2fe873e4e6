<script setup lang="ts">
import { NTable } from 'naive-ui'
import type { Fact } from '../api'
import { clock } from '../format'

// What a box told of itself, by which protocol, and when.
defineProps<{ facts: Fact[] }>()
</script>

<template>
  <h3>Found</h3>
  <NTable size="small" :bordered="false" :single-line="true">
    <tbody>
      <tr v-for="f in facts" :key="f.key + f.value + f.protocol">
        <td>{{ f.key }}</td>
        <td class="mono">{{ f.value }}</td>
        <td class="faint">{{ f.protocol }}, {{ clock(f.last) }}</td>
      </tr>
    </tbody>
  </NTable>
</template>
