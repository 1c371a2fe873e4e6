<script setup lang="ts">
import { NButton, NCard } from 'naive-ui'
import { computed, onMounted, ref, watch } from 'vue'
import { call, siteCall } from '../../api'
import type { Bodies } from '../../api'
import { useMaking } from '../../stores/making'
import { useSite } from '../../stores/site'
import { Choice } from '../choice'

// What this site asks for: the columns of its register, and what is in its package.
const props = defineProps<{ documents: Bodies['Document'][] }>()
const site = useSite()
const making = useMaking()
const columns = ref<Bodies['Column'][]>([])
onMounted(async () => {
  columns.value = (await making.load(() => call('get', '/columns'))) ?? []
})
const register = ref<string[]>([])
const pack = ref<string[]>([])
// What somebody is choosing stays when the site changes meanwhile.
const loaded = ref('')
const chosen = () => JSON.stringify([register.value, pack.value])
watch(
  () => site.site,
  (s) => {
    if (loaded.value && chosen() !== loaded.value) return
    register.value = s?.register ?? []
    pack.value = s?.package ?? []
    loaded.value = chosen()
  },
  { immediate: true },
)
const changed = computed(() => chosen() !== loaded.value)
const columnChoices = computed(() => columns.value.map((c) => ({ label: c.says, value: c.key })))
const documentChoices = computed(() =>
  props.documents
    .filter((d) => d.name !== 'package' && d.name !== 'record')
    .map((d) => ({ label: d.file, value: d.name })),
)
const save = () =>
  making.attempt('asked', async () => {
    await siteCall('put', '', { body: { ...site.site, register: register.value, package: pack.value } })
    loaded.value = chosen()
  })
</script>

<template>
  <NCard size="small" title="What this site asks for" class="gap">
    <div class="line">
      <label class="wide"
        >Columns of the register, in this order
        <Choice
          v-model:value="register"
          multiple
          filterable
          clearable
          size="small"
          :options="columnChoices"
          placeholder="the usual ones"
          name="Columns of the register"
          data-test="asked-columns"
      /></label>
      <label class="wide"
        >In the package, beside the signed record
        <Choice
          v-model:value="pack"
          multiple
          filterable
          clearable
          size="small"
          :options="documentChoices"
          placeholder="all documents"
          name="Documents in the package"
          data-test="asked-documents"
      /></label>
      <NButton
        v-if="changed"
        size="small"
        type="primary"
        :loading="making.busy === 'asked'"
        data-test="asked-save"
        @click="save"
        >Save</NButton
      >
    </div>
  </NCard>
</template>

<style scoped src="./style.css"></style>
