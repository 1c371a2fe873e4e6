<script setup lang="ts">
import { NButton, NCard, NPopconfirm } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { serviceFile, siteCall, siteFile } from '../../api'
import type { Bodies } from '../../api'
import { useMaking } from '../../stores/making'
import { useSession } from '../../stores/session'
import { useSite } from '../../stores/site'
import { useWork } from '../../stores/work'
import SealForm from './SealForm.vue'
import { Choice } from '../choice'

// What holds secrets leaves sealed, and the history of every entry says for whom.
const session = useSession()
const site = useSite()
const work = useWork()
const making = useMaking()
const captures = ref<Bodies['Capture'][]>([])
const capture = ref<number>()
const loadCaptures = async () => (captures.value = (await making.load(() => siteCall('get', '/captures'))) ?? [])
watch(() => [site.key, work.underWay.length], loadCaptures, { immediate: true })
const choices = computed(() =>
  captures.value.map((c) => ({ label: `${c.what}, ${new Date(c.at).toLocaleString()}, by ${c.who}`, value: c.id })),
)
const verify = () =>
  making.attempt('verify', () => siteCall('post', '/verifications', { body: { all: true, capture: true } }))
async function forget() {
  await making.attempt('forget', () => siteCall('delete', '/captures/{id}', { path: { id: capture.value! } }))
  capture.value = undefined
  await loadCaptures()
}
</script>

<template>
  <NCard size="small" title="Sealed" class="gap">
    <p class="faint">
      To public keys of age or with a passphrase; only whoever has those opens it. The history of every entry says who
      sealed it, and for whom.
    </p>
    <h4>Credentials: all logins and secrets</h4>
    <SealForm
      name="credentials"
      :busy="making.busy === 'credentials'"
      @seal="
        (to) =>
          making.fetchFile('credentials', `${site.key}-credentials.csv.age`, () =>
            siteFile('/documents/credentials', { body: to }),
          )
      " />
    <h4>Packets of each device, a pcapng file each</h4>
    <div v-if="!captures.length" class="line">
      <span class="wide faint">None are kept: say so where a run is rehearsed, or verify once more.</span>
      <NButton size="small" :loading="making.busy === 'verify'" data-test="verify-capture" @click="verify"
        >Verify and keep the packets</NButton
      >
    </div>
    <template v-else>
      <div class="line">
        <Choice
          v-model:value="capture"
          size="small"
          :options="choices"
          placeholder="of which run or verification"
          class="wide"
          name="Kept packets" />
        <NPopconfirm @positive-click="forget">
          <template #trigger><NButton size="small" :disabled="!capture">Forget them</NButton></template>
          Forget these packets for good?
        </NPopconfirm>
      </div>
      <SealForm
        name="packets"
        :disabled="!capture"
        :busy="making.busy === 'packets'"
        @seal="
          (to) =>
            making.fetchFile('packets', `${site.key}-packets.zip.age`, () =>
              siteFile('/captures/{id}', { path: { id: capture! }, body: to }),
            )
        " />
    </template>
    <template v-if="session.rights === 'own'">
      <h4>
        The whole site, for the colleague who goes on: plan, history, matches, runs, files and what opens the devices
      </h4>
      <SealForm
        name="site-file"
        :busy="making.busy === 'site-file'"
        @seal="
          (to) => making.fetchFile('site-file', `${site.key}-site.age`, () => siteFile('/archive', { body: to }))
        " />
      <h4>Backup of everything that this service keeps</h4>
      <SealForm
        name="backup"
        :busy="making.busy === 'backup'"
        @seal="(to) => making.fetchFile('backup', 'redstart-backup.age', () => serviceFile('/backup', { body: to }))" />
    </template>
  </NCard>
</template>

<style scoped src="./style.css"></style>
