<script setup lang="ts">
import { NButton, NCard, NTable } from 'naive-ui'
import type { Bodies } from '../../api'
import { useMaking } from '../../stores/making'

defineProps<{ documents: Bodies['Document'][] }>()
const making = useMaking()
</script>

<template>
  <NCard size="small" title="Documents" class="gap">
    <NTable size="small" :bordered="false" data-test="documents">
      <tbody>
        <tr v-for="d in documents" :key="d.name">
          <td class="tag">{{ d.file }}</td>
          <td>{{ d.says }}</td>
          <td class="do">
            <NButton
              size="tiny"
              quaternary
              :loading="making.busy === 'look ' + d.name"
              :data-test="'look-' + d.name"
              @click="making.look('look ' + d.name, d.file, { document: d.name })"
              >Look</NButton
            >
            <NButton
              size="tiny"
              :loading="making.busy === d.name"
              :data-test="'document-' + d.name"
              @click="making.save(d.name, { document: d.name })"
              >Save</NButton
            >
          </td>
        </tr>
      </tbody>
    </NTable>
  </NCard>
</template>

<style scoped src="./style.css"></style>
