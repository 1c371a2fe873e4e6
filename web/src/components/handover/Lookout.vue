<script setup lang="ts">
import { NAlert, NButton, NCard, NInput, NTable, NTag } from 'naive-ui'
import { computed, reactive } from 'vue'
import { siteCall } from '../../api'
import { useMaking } from '../../stores/making'
import { useHandover } from '../../stores/handover'
import { usePlan } from '../../stores/plan'
import { useSession } from '../../stores/session'
import { Choice } from '../choice'

// The service looks by itself whether the site is as it was handed over.
const session = useSession()
const plan = usePlan()
const handover = useHandover()
const making = useMaking()
const found = computed(() => handover.lookout)
const lookAt = reactive({ at: '02:30', days: [] as string[], tags: [] as string[], hook: '' })
const tags = computed(() => plan.entries.map((e) => ({ label: e.tag, value: e.tag })))
const days = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'].map((d) => ({ label: d, value: d }))
const when = (at: string) => new Date(at).toLocaleString()

const set = () => making.attempt('lookout', () => siteCall('put', '/lookout', { body: lookAt }))
const end = () => making.attempt('lookout', () => siteCall('delete', '/lookout'))
const lookNow = () => making.attempt('lookout', () => siteCall('post', '/lookout/look'))
</script>

<template>
  <NCard v-if="found" size="small" title="Whether it is as it was" class="gap" data-test="lookout">
    <template v-if="found.on">
      <p>
        The service looks at {{ found.at }} {{ found.days?.length ? 'on ' + found.days.join(', ') : 'every day' }}, and
        compares with {{ found.against }}.
        <template v-if="found.lookedAt">Looked {{ when(found.lookedAt) }}.</template>
        <template v-if="found.looking"> It is looking {{ found.lookedAt ? 'now' : 'for the first time' }}.</template>
        <template v-else-if="!found.lookedAt">It has not looked yet.</template>
      </p>
      <NAlert v-if="found.wrong" type="warning" :show-icon="false" class="gap"
        >The last time that did not go: {{ found.wrong }}</NAlert
      >
      <p v-if="found.lookedAt && !found.changed.length">
        <NTag size="small" type="success">as it was</NTag>
      </p>
      <div v-if="found.changed.length" class="many">
        <NTable size="small" :bordered="false" data-test="changed">
          <tbody>
            <tr v-for="(d, i) in found.changed" :key="i">
              <td class="tag">
                <strong>{{ d.tag }}</strong>
              </td>
              <td class="state">{{ d.column }}</td>
              <td>{{ d.was || 'nothing' }} → {{ d.is || 'nothing' }}</td>
            </tr>
          </tbody>
        </NTable>
      </div>
      <div class="line">
        <NButton
          v-if="session.mayCommission"
          size="small"
          :loading="making.busy === 'lookout'"
          :disabled="found.looking"
          data-test="look-now"
          @click="lookNow"
          >Look now</NButton
        >
        <NButton v-if="session.rights === 'own'" size="small" quaternary @click="end">Look no more</NButton>
      </div>
    </template>
    <template v-else>
      <p class="faint">
        The service can find and verify by itself, gently and without a restart, and tell what is not as it was handed
        over.
      </p>
      <div v-if="session.rights === 'own'" class="line">
        <label
          >At <NInput v-model:value="lookAt.at" size="small" class="short" :input-props="{ 'aria-label': 'At' }"
        /></label>
        <label class="wide"
          >On
          <Choice v-model:value="lookAt.days" multiple size="small" :options="days" placeholder="every day" name="Days"
        /></label>
        <label class="wide"
          >Entries
          <Choice
            v-model:value="lookAt.tags"
            multiple
            filterable
            clearable
            size="small"
            :options="tags"
            placeholder="all that are set"
            max-tag-count="responsive"
            name="Entries that are looked at"
        /></label>
        <label class="wide"
          >Tell
          <NInput
            v-model:value="lookAt.hook"
            size="small"
            placeholder="https://… or nobody"
            :input-props="{ 'aria-label': 'Hook' }"
        /></label>
        <NButton size="small" :loading="making.busy === 'lookout'" data-test="look-by-itself" @click="set"
          >Begin</NButton
        >
      </div>
    </template>
  </NCard>
</template>

<style scoped src="./style.css"></style>
