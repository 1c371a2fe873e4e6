<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { NButton, NInput } from 'naive-ui'
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { siteCall } from '../api'
import type { Scanned } from '../api'

// Where scanned labels arrive: a hand-held scanner types them and ends with
// Enter, so that the field keeps the focus; on a phone the camera reads them.
const props = defineProps<{ tag: string; camera?: boolean; cards?: boolean }>()
const emit = defineEmits<{ scanned: [out: Scanned]; refused: [why: string] }>()
const text = ref('')
const field = ref<InstanceType<typeof NInput> | null>(null)
const video = ref<HTMLVideoElement | null>(null)
const looking = ref(false)
let stop = () => {}
let last = ''

async function take(label: string) {
  text.value = ''
  if (!label.trim()) return
  try {
    emit('scanned', await siteCall('post', '/scans', { body: { text: label, tag: props.tag, cards: !!props.cards } }))
  } catch (e) {
    emit('refused', (e as Error).message)
  }
}

// Whatever is clicked, the next scan goes here, unless something is being typed elsewhere.
useEventListener(document, 'focusout', (e) => {
  if (props.camera || e.relatedTarget) return
  setTimeout(() => {
    if (document.activeElement === document.body && !document.querySelector('.n-modal-mask, .n-drawer-mask'))
      field.value?.focus()
  })
})
// A scanner that types while a button has the focus means this field too; a
// space alone presses the button, as ever.
useEventListener(document, 'keydown', (e) => {
  if (
    e.key.length !== 1 ||
    e.key === ' ' ||
    e.ctrlKey ||
    e.metaKey ||
    e.altKey ||
    document.querySelector('.n-modal-mask, .n-drawer-mask')
  )
    return
  if (!(e.target as HTMLElement).closest('input, textarea, select, [contenteditable], .n-base-selection'))
    field.value?.focus()
})
onMounted(() => {
  if (!props.camera) field.value?.focus()
})

async function look() {
  if (looking.value) return end()
  looking.value = true
  try {
    const { BrowserMultiFormatReader } = await import('@zxing/browser')
    const controls = await new BrowserMultiFormatReader().decodeFromConstraints(
      { video: { facingMode: 'environment' } },
      video.value!,
      (result) => {
        const seen = result?.getText() ?? ''
        if (!seen || seen === last) return
        last = seen
        setTimeout(() => {
          last = ''
        }, 3000) // the same label may be meant again
        navigator.vibrate?.(60)
        void take(seen)
      },
    )
    stop = () => controls.stop()
  } catch (e) {
    end()
    emit(
      'refused',
      `The camera cannot be used: ${(e as Error).message || (e as Error).name}. Over the network it needs https; the label can be typed as well.`,
    )
  }
}
function end() {
  stop()
  stop = () => {}
  looking.value = false
}
onBeforeUnmount(end)
</script>

<template>
  <div class="scan">
    <NInput
      ref="field"
      v-model:value="text"
      size="large"
      clearable
      :placeholder="cards ? 'Code on a card' : tag ? 'Label of its box' : 'Label of an entry or a box'"
      :input-props="{ 'aria-label': 'Label', autocapitalize: 'characters', autocomplete: 'off', enterkeyhint: 'go' }"
      data-test="scan"
      @keyup.enter="take(text)" />
    <NButton size="large" :type="looking ? 'primary' : 'default'" data-test="camera" @click="look">{{
      looking ? 'Stop camera' : 'Camera'
    }}</NButton>
    <video v-show="looking" ref="video" class="picture" muted playsinline aria-label="What the camera sees" />
  </div>
</template>

<style scoped>
.scan {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 6px;
}
.picture {
  grid-column: 1 / 3;
  width: 100%;
  max-height: 40vh;
  object-fit: cover;
  border-radius: 4px;
  background: #000;
}
</style>
