<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { reactive } from 'vue'
import type { Bodies } from '../../api'

// For whom something is sealed: public keys of age, or a passphrase.
defineProps<{ name: string; busy: boolean; disabled?: boolean; button?: string }>()
const emit = defineEmits<{ seal: [to: Bodies['SealTo']] }>()
const to = reactive({ recipients: '', passphrase: '' })
function seal() {
  emit('seal', { recipients: to.recipients.split(/\s+/).filter(Boolean), passphrase: to.passphrase })
  to.passphrase = ''
}
</script>

<template>
  <form class="line" @submit.prevent="seal">
    <NInput
      v-model:value="to.recipients"
      size="small"
      placeholder="age1…, several divided by spaces"
      class="wide"
      :disabled="!!to.passphrase"
      :input-props="{ 'aria-label': 'Public keys for ' + name }" />
    <NInput
      v-model:value="to.passphrase"
      type="password"
      size="small"
      placeholder="or a passphrase, at least 12 characters"
      class="wide"
      :disabled="!!to.recipients"
      :input-props="{ autocomplete: 'new-password', 'aria-label': 'Passphrase for ' + name }" />
    <NButton
      size="small"
      attr-type="submit"
      :disabled="disabled || (!to.recipients.trim() && !to.passphrase)"
      :loading="busy"
      :data-test="name"
      >{{ button ?? 'Seal and save' }}</NButton
    >
  </form>
</template>

<style scoped src="./style.css"></style>
