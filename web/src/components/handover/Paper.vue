<script setup lang="ts">
import { NButton, NCard, NInput, NInputNumber } from 'naive-ui'
import { computed, reactive, ref } from 'vue'
import { siteFile } from '../../api'
import type { Bodies } from '../../api'
import { useMaking } from '../../stores/making'
import { usePlan } from '../../stores/plan'
import { useSession } from '../../stores/session'
import { useSite } from '../../stores/site'
import { Choice } from '../choice'

// What is printed: labels, sheets for devices, and logins only where they are asked for by name.
const session = useSession()
const site = useSite()
const plan = usePlan()
const making = useMaking()
const form = reactive({ size: '70x37', gap: '', page: 'A4', fields: 'tag,name,address,mac,serial' })
const start = ref(1)
const pages = ['A4', 'letter', 'roll'].map((p) => ({ label: p, value: p }))
const chosen = ref<string[]>([])
const taker = ref('')
const tags = computed(() => plan.entries.map((e) => ({ label: e.tag, value: e.tag })))
const options = (format = 'pdf') => ({ ...form, start: String(start.value), tags: chosen.value.join(','), format })
const labels = (format = 'pdf'): Bodies['ToMake'] => ({ document: 'labels', labels: options(format) })
async function logins(on: 'labels' | 'sheet') {
  const to = taker.value
  const made =
    on === 'labels'
      ? await making.fetchFile('login-labels', `${site.key}-labels.pdf`, () =>
          siteFile('/labels', { body: { ...options(), to } }),
        )
      : await making.fetchFile('login-sheet', `${site.key}-logins.pdf`, () =>
          siteFile('/documents/logins', { body: { tags: chosen.value, to } }),
        )
  if (made) taker.value = ''
}
</script>

<template>
  <NCard size="small" title="Labels and sheets" class="gap">
    <div class="line">
      <label class="wide"
        >Of
        <Choice
          v-model:value="chosen"
          multiple
          filterable
          clearable
          size="small"
          :options="tags"
          placeholder="all entries"
          max-tag-count="responsive"
          name="Entries"
          data-test="paper-tags"
      /></label>
    </div>
    <h4>Labels</h4>
    <p class="faint">In walking order, with a code that a phone shows and the scanner takes. Lengths in millimetres.</p>
    <div class="line">
      <label
        >Size <NInput v-model:value="form.size" size="small" class="short" :input-props="{ 'aria-label': 'Size' }"
      /></label>
      <label
        >Gap
        <NInput
          v-model:value="form.gap"
          size="small"
          class="short"
          placeholder="none"
          :input-props="{ 'aria-label': 'Gap' }"
      /></label>
      <label>On <Choice v-model:value="form.page" :options="pages" size="small" class="short" name="Page" /></label>
      <label
        >Begin at
        <NInputNumber
          :value="start"
          @update:value="(n) => (start = n ?? start)"
          :min="1"
          size="small"
          class="short"
          :input-props="{ 'aria-label': 'Begin at label' }"
      /></label>
      <label class="wide"
        >Fields <NInput v-model:value="form.fields" size="small" :input-props="{ 'aria-label': 'Fields' }"
      /></label>
      <NButton
        size="small"
        quaternary
        :loading="making.busy === 'look labels'"
        data-test="look-labels"
        @click="making.look('look labels', 'labels.pdf', labels())"
        >Look</NButton
      >
      <NButton
        size="small"
        :loading="making.busy === 'labels-pdf'"
        data-test="labels-pdf"
        @click="making.save('labels-pdf', labels())"
        >Save as PDF</NButton
      >
      <NButton size="small" :loading="making.busy === 'labels-svg'" @click="making.save('labels-svg', labels('svg'))"
        >Save as SVG</NButton
      >
    </div>
    <h4>Commissioning sheets</h4>
    <div class="line">
      <span class="wide faint">A page for each chosen device: what it is and every check.</span>
      <NButton
        size="small"
        quaternary
        :disabled="!chosen.length"
        :loading="making.busy === 'look sheets'"
        data-test="look-sheets"
        @click="making.look('look sheets', 'sheets.pdf', { document: 'sheets', tags: chosen })"
        >Look</NButton
      >
      <NButton
        size="small"
        :disabled="!chosen.length"
        :loading="making.busy === 'sheets'"
        data-test="sheets"
        @click="making.save('sheets', { document: 'sheets', tags: chosen })"
        >Save as PDF</NButton
      >
    </div>
    <template v-if="session.mayCommission">
      <h4>With logins</h4>
      <p class="faint">
        What opens the chosen devices, printed for somebody. The history of each entry says for whom, and by whom.
      </p>
      <div class="line">
        <NInput
          v-model:value="taker"
          size="small"
          placeholder="who takes it, and whom they are from"
          class="wide"
          :disabled="!chosen.length"
          :input-props="{ 'aria-label': 'Who takes the logins' }" />
        <NButton
          size="small"
          :disabled="!chosen.length || !taker.trim()"
          :loading="making.busy === 'login-sheet'"
          data-test="login-sheet"
          @click="logins('sheet')"
          >Save a sheet</NButton
        >
        <NButton
          size="small"
          :disabled="!chosen.length || !taker.trim()"
          :loading="making.busy === 'login-labels'"
          data-test="login-labels"
          @click="logins('labels')"
          >Save labels</NButton
        >
      </div>
    </template>
  </NCard>
</template>

<style scoped src="./style.css"></style>
