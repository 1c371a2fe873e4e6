<script setup lang="ts">
import { NAlert, NButton, NForm, NFormItem, NInput, NModal } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { siteCall } from '../api'
import type { Check } from '../api'
import { useSession } from '../stores/session'

// A person's word for what nothing can look at.
const props = defineProps<{ tag: string; check: Check | null }>()
const emit = defineEmits<{ done: [] }>()
const session = useSession()
const note = ref('')
const wrong = ref('')
const said = computed(() => props.check?.verdict === 'said')
watch(
  () => props.check,
  () => {
    note.value = wrong.value = ''
  },
)
async function say() {
  try {
    await siteCall('post', '/entries/{tag}/said', {
      path: { tag: props.tag },
      body: { check: props.check!.name, not: said.value, note: note.value },
    })
    emit('done')
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
</script>

<template>
  <NModal
    :show="!!check"
    preset="card"
    :title="said ? 'Take it back?' : 'Nothing can look at this. Do you know it?'"
    style="max-width: 560px"
    data-test="say-dialog"
    @update:show="emit('done')">
    <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
    <p>
      {{ tag }}: <strong>{{ check?.name }}</strong> is {{ check?.expected }}.
      <template v-if="said">It is {{ check?.by }}.</template>
      <template v-else
        >It counts as said by {{ session.user }}, with the time, and stands so in every document. A new run forgets
        it.</template
      >
    </p>
    <NForm label-placement="left" label-width="130" size="small" @submit.prevent="say">
      <NFormItem v-if="!said" label="How you know"
        ><NInput v-model:value="note" placeholder="tried at the door" data-test="say-note"
      /></NFormItem>
      <NButton type="primary" attr-type="submit" data-test="say-sure">{{ said ? 'Take it back' : 'It is so' }}</NButton>
    </NForm>
  </NModal>
</template>
