<script setup lang="ts">
import { NAlert, NButton, NInput, NModal } from 'naive-ui'
import { reactive, ref, watch } from 'vue'
import { call, Problem } from '../api'
import type { Bodies } from '../api'
import { plural } from '../format'
import { useSite } from '../stores/site'

// A site that somebody sealed is opened here, so that the key never leaves the browser; the
// service says first what would come, and what stands in the way.
const shown = defineModel<boolean>('shown', { required: true })
const site = useSite()
const form = reactive({ opens: '', as: '' })
const file = ref<File>()
const coming = ref<Bodies['Coming']>()
const wrong = ref('')
const busy = ref(false)
let opened: Blob | undefined

watch(shown, () => {
  Object.assign(form, { opens: '', as: '' })
  file.value = coming.value = opened = undefined
  wrong.value = ''
})
function choose(e: Event) {
  file.value = (e.target as HTMLInputElement).files?.[0]
  coming.value = opened = undefined
}

async function open(): Promise<Blob> {
  if (opened) return opened
  const { Decrypter } = await import('age-encryption')
  const keys = form.opens.match(/AGE-SECRET-KEY-1[0-9A-Z]+/g)
  const d = new Decrypter()
  try {
    if (keys) keys.forEach((k) => d.addIdentity(k))
    else d.addPassphrase(form.opens)
    const content = await d.decrypt(new Uint8Array(await file.value!.arrayBuffer()))
    opened = new Blob([content as Uint8Array<ArrayBuffer>])
  } catch {
    throw new Problem(422, 'this key or passphrase does not open the file, or the file is damaged')
  }
  return opened
}

async function take(preview: boolean) {
  wrong.value = ''
  busy.value = true
  try {
    const as = form.as.trim()
    const said = await call('post', '/archives', { query: { preview, ...(as && { as }) }, body: await open() })
    if (preview) {
      coming.value = said
      return
    }
    shown.value = false
    await site.loadSites()
    site.open(said.key)
  } catch (e) {
    wrong.value = e instanceof Problem ? e.message : 'The file cannot be read.'
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <NModal v-model:show="shown" preset="card" title="Take in a site" style="max-width: 640px">
    <p>A site that another service sealed: plan, history, matches, runs, files, and what opens its devices.</p>
    <form class="column" @submit.prevent="take(true)">
      <input type="file" accept=".age" aria-label="Sealed site" @change="choose" />
      <NInput
        v-model:value="form.opens"
        type="textarea"
        :autosize="{ minRows: 2, maxRows: 5 }"
        placeholder="the passphrase, or what age-keygen wrote (AGE-SECRET-KEY-1…); it stays in this browser"
        :input-props="{ 'aria-label': 'What opens it', autocomplete: 'off', spellcheck: false }"
        @update:value="opened = undefined" />
      <NInput
        v-model:value="form.as"
        class="mono"
        placeholder="key that the site gets here; its own without"
        :input-props="{ 'aria-label': 'Key that the site gets here' }" />
      <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
      <div v-if="coming" data-test="coming">
        <p>
          <strong>{{ coming.name }}</strong> (<span class="mono">{{ coming.key }}</span
          >): {{ plural(coming.entries, 'entry') }}, {{ plural(coming.devices, 'found device') }},
          {{ plural(coming.logins, 'login') }}, {{ plural(coming.files, 'file') }}.
        </p>
        <NAlert v-for="c in coming.conflicts" :key="c" type="error" :show-icon="false">In the way: {{ c }}.</NAlert>
        <NAlert v-for="n in coming.notes" :key="n" type="info" :show-icon="false">{{ n }}.</NAlert>
      </div>
      <div class="foot">
        <NButton @click="shown = false">Cancel</NButton>
        <NButton attr-type="submit" :disabled="!file || !form.opens.trim()" :loading="busy" data-test="take-look"
          >See what would come</NButton
        >
        <NButton
          type="primary"
          :disabled="!coming || coming.conflicts.length > 0"
          :loading="busy"
          data-test="take-in"
          @click="take(false)"
          >Take it in</NButton
        >
      </div>
    </form>
  </NModal>
</template>

<style scoped>
.column {
  display: flex;
  flex-direction: column;
  gap: 10px;
}
.foot {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
}
</style>
