<script setup lang="ts">
import { NButton, NCheckbox, NInput, NModal, useMessage } from 'naive-ui'
import type { DataTableColumns } from 'naive-ui'
import { computed, h, ref, watch } from 'vue'
import type { Edited, Moments, Revision } from '../api'
import { siteCall } from '../api'
import Comparison from '../components/Comparison.vue'
import SelectTable from '../components/SelectTable.vue'
import { clock } from '../format'
import { usePlan } from '../stores/plan'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'

// Who changed what in plan, subnets and policies; two moments side by side; an
// earlier one restored.
const session = useSession()
const site = useSite()
const plan = usePlan()
const message = useMessage()
const revisions = ref<Revision[]>([])
const search = ref('')
const named = ref(false)
const chosen = ref<string[]>([])
const moments = ref<Moments | null>(null)
const restoring = ref<{ revision: Revision; preview: Edited } | null>(null)
watch(
  () => plan.revision,
  async () => {
    if (site.key) revisions.value = await siteCall('get', '/revisions').catch(() => [])
  },
  { immediate: true },
)
const rows = computed(() =>
  revisions.value.filter(
    (r) =>
      (!named.value || r.name) && `${r.who} ${r.what} ${r.name}`.toLowerCase().includes(search.value.toLowerCase()),
  ),
)

async function attempt(what: () => Promise<unknown>) {
  try {
    await what()
  } catch (e) {
    message.error((e as Error).message, { duration: 8000, closable: true })
  }
}
const compare = () =>
  attempt(async () => {
    const [a, b] = chosen.value.map(Number).sort((x, y) => x - y)
    moments.value = await siteCall('get', '/comparison', { query: { from: String(a), ...(b && { to: String(b) }) } })
  })
const ask = (revision: Revision) =>
  attempt(async () => {
    restoring.value = {
      revision,
      preview: await siteCall('post', '/revisions/{revision}/restore', {
        path: { revision: String(revision.id) },
        query: { preview: true },
      }),
    }
  })
const restore = () =>
  attempt(async () => {
    await siteCall('post', '/revisions/{revision}/restore', {
      path: { revision: String(restoring.value!.revision.id) },
    })
    restoring.value = null
    await plan.settle()
  })
const naming = ref<Revision | null>(null)
const name = ref('')
const give = () =>
  attempt(async () => {
    await siteCall('put', '/revisions/{revision}/name', {
      path: { revision: String(naming.value!.id) },
      body: { name: name.value },
    })
    naming.value = null
    revisions.value = await siteCall('get', '/revisions')
  })
const columns = computed<DataTableColumns<Revision>>(() => [
  {
    type: 'selection',
    width: 40,
    multiple: true,
    disabled: (r) => chosen.value.length >= 2 && !chosen.value.includes(String(r.id)),
  },
  { title: 'No.', key: 'id', width: 60 },
  { title: 'At', key: 'at', width: 135, render: (r) => clock(r.at) },
  { title: 'Who', key: 'who', width: 130, ellipsis: { tooltip: true } },
  { title: 'What', key: 'what', minWidth: 200 },
  { title: 'Name', key: 'name', width: 220, render: (r) => (r.name ? h('strong', r.name) : '') },
  {
    title: '',
    key: 'do',
    width: 170,
    render: (r) =>
      session.mayPlan
        ? h('span', { style: 'display: flex; gap: 4px' }, [
            h(
              NButton,
              {
                size: 'tiny',
                'data-test': 'name-revision',
                onClick: () => {
                  naming.value = r
                  name.value = r.name
                },
              },
              () => 'Name',
            ),
            h(
              NButton,
              {
                size: 'tiny',
                'data-test': 'restore',
                disabled: r.id === revisions.value[0]?.id,
                onClick: () => void ask(r),
              },
              () => 'Restore',
            ),
          ])
        : null,
  },
])
</script>

<template>
  <div class="page">
    <div class="tools">
      <NInput
        v-model:value="search"
        clearable
        size="small"
        placeholder="Search who, what, name"
        class="search"
        :input-props="{ 'aria-label': 'Search the history' }" />
      <NCheckbox v-model:checked="named">Only named</NCheckbox>
      <NButton size="small" :disabled="!chosen.length" data-test="compare" @click="compare">{{
        chosen.length === 2 ? 'Compare the two' : 'Compare with now'
      }}</NButton>
      <span class="faint">Choose one revision, or two, to compare what the plan was after each.</span>
    </div>
    <SelectTable
      v-model:chosen="chosen"
      :columns="columns"
      :data="rows"
      :row-key="(r: Revision) => String(r.id)"
      :wide="900"
      class="table"
      data-test="revisions" />
    <NModal :show="!!moments" preset="card" title="What differs" style="max-width: 860px" @update:show="moments = null">
      <template v-if="moments">
        <p>
          From revision {{ moments.from.id }} <strong>{{ moments.from.name }}</strong> to
          {{ moments.to ? `revision ${moments.to.id}` : 'now' }} <strong>{{ moments.to?.name }}</strong>
        </p>
        <p v-for="c in moments.site" :key="c.field">
          <strong>{{ c.field }}</strong>: {{ c.before || '–' }} → {{ c.after || '–' }}
        </p>
        <Comparison :of="moments.comparison" :height="380" />
      </template>
    </NModal>
    <NModal
      :show="!!restoring"
      preset="card"
      title="Restore an earlier plan?"
      style="max-width: 860px"
      @update:show="restoring = null">
      <template v-if="restoring">
        <p>
          The plan becomes what it was after revision {{ restoring.revision.id }}, {{ restoring.revision.what }}.
          Nothing is lost: this is a revision too.
        </p>
        <p v-for="c in restoring.preview.changes" :key="c.field">
          <strong>{{ c.field }}</strong>: {{ c.before || '–' }} → {{ c.after || '–' }}
        </p>
        <Comparison :of="restoring.preview.comparison" :height="340" />
        <p v-if="restoring.preview.kept.length">
          Kept, because their devices are configured: {{ restoring.preview.kept.join(', ') }}
        </p>
      </template>
      <template #footer
        ><div class="foot">
          <NButton @click="restoring = null">Cancel</NButton
          ><NButton type="primary" data-test="restore-apply" @click="restore">Restore</NButton>
        </div></template
      >
    </NModal>
    <NModal
      :show="!!naming"
      preset="card"
      :title="`Name revision ${naming?.id}`"
      style="max-width: 480px"
      @update:show="naming = null">
      <form @submit.prevent="give">
        <NInput
          v-model:value="name"
          placeholder="issued for construction, rev C"
          :input-props="{ 'aria-label': 'Name', id: 'revision-name' }" />
        <div class="foot">
          <NButton @click="naming = null">Cancel</NButton><NButton type="primary" attr-type="submit">Save</NButton>
        </div>
      </form>
    </NModal>
  </div>
</template>

<style scoped>
.search {
  width: 260px;
}
.table {
  flex: 1;
  min-height: 200px;
}
.foot {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
  margin-top: 12px;
}
@media (max-width: 900px) {
  .search {
    width: 100%;
  }
}
</style>
