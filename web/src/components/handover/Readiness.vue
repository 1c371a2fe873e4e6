<script setup lang="ts">
import { NCard, NTable } from 'naive-ui'
import { computed, ref } from 'vue'
import { plural } from '../../format'
import { usePlan } from '../../stores/plan'

// What is ready, and what is missing and why: what is not wired is not expected.
const plan = usePlan()
const expected = computed(() => plan.entries.filter((e) => !e.unwired))
const verified = computed(() => expected.value.filter((e) => e.state === 'verified'))
/** How many are drawn before it is asked for more. */
const mostShown = 100
const shown = ref(mostShown)
const missing = computed(() =>
  expected.value
    .filter((e) => e.state !== 'verified')
    .map((e) => ({
      tag: e.tag,
      state: e.state,
      why:
        e.reason ||
        (e.differs ?? []).join('; ') ||
        (e.state === 'planned' && !e.behind ? 'no device is matched with it' : '') ||
        (e.notLookedAt?.length ? 'not looked at: ' + e.notLookedAt.join(', ') : 'it was not looked at yet'),
    })),
)
</script>

<template>
  <NCard size="small" title="How far the site is" class="gap">
    <p data-test="ready">
      <strong>{{ verified.length }} of {{ plural(expected.length, 'entry') }}</strong> verified.
      <template v-if="!expected.length">The plan has nothing that is wired.</template>
      <template v-else-if="!missing.length">Everything that is wired was verified.</template>
      <template v-else>What is handed over says of each value whether it was verified; these are not whole:</template>
    </p>
    <div v-if="missing.length" class="many">
      <NTable size="small" :bordered="false" data-test="missing">
        <tbody>
          <tr v-for="m in missing.slice(0, shown)" :key="m.tag">
            <td class="tag">
              <strong>{{ m.tag }}</strong>
            </td>
            <td class="state">{{ m.state }}</td>
            <td>{{ m.why }}</td>
          </tr>
        </tbody>
      </NTable>
      <p v-if="missing.length > shown">
        <button class="link" data-test="missing-more" @click="shown += mostShown">
          {{ missing.length - shown }} more: show the next
        </button>
        <RouterLink to="/">all with what is known of each</RouterLink>
      </p>
    </div>
  </NCard>
</template>

<style scoped src="./style.css"></style>
