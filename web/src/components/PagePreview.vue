<script setup lang="ts">
import { NAlert, NButton, NSpin } from 'naive-ui'
import * as pdf from 'pdfjs-dist'
import worker from 'pdfjs-dist/build/pdf.worker.min.mjs?url'
import { nextTick, onBeforeUnmount, onMounted, ref } from 'vue'

// Pictures of the pages of a PDF, or the first lines of a text: what is handed over is looked at
// before anybody gets it.
const props = defineProps<{ path: string; kind: 'pages' | 'lines' }>()

pdf.GlobalWorkerOptions.workerSrc = worker
const someLines = 200
const somePages = 4

const wrong = ref('')
const busy = ref(true)
const lines = ref<string[]>([])
const more = ref(0)
const pages = ref(0)
const shown = ref(0)
const sheet = ref<HTMLElement>()
let document_: pdf.PDFDocumentProxy | undefined

async function draw(upTo: number) {
  for (let n = shown.value + 1; n <= Math.min(upTo, pages.value); n++) {
    const page = await document_!.getPage(n)
    const wide = page.getViewport({ scale: 1 }).width
    const viewport = page.getViewport({ scale: (2 * Math.min(760, sheet.value!.clientWidth)) / wide })
    const canvas = document.createElement('canvas')
    canvas.width = viewport.width
    canvas.height = viewport.height
    canvas.setAttribute('role', 'img')
    canvas.setAttribute('aria-label', `Page ${n} of ${pages.value}`)
    canvas.dataset.test = 'page'
    await page.render({ canvas, viewport }).promise
    sheet.value!.append(canvas)
    shown.value = n
  }
}

onMounted(async () => {
  try {
    const response = await fetch('/api/' + props.path)
    if (!response.ok) {
      wrong.value = ((await response.json()) as { detail: string }).detail
      return
    }
    if (props.kind === 'lines') {
      const all = (await response.text()).split('\n')
      lines.value = all.slice(0, someLines)
      more.value = Math.max(0, all.length - someLines)
      return
    }
    document_ = await pdf.getDocument({ data: await response.arrayBuffer(), disableFontFace: true }).promise
    pages.value = document_.numPages
    await nextTick()
    await draw(somePages)
  } catch {
    wrong.value = 'The preview cannot be drawn; save the document, and open that.'
  } finally {
    busy.value = false
  }
})
onBeforeUnmount(() => void document_?.loadingTask.destroy())
</script>

<template>
  <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
  <NSpin v-if="busy" class="busy" aria-label="The preview is being drawn" />
  <pre v-if="lines.length" class="lines" tabindex="0" data-test="lines">{{ lines.join('\n') }}</pre>
  <p v-if="more">and {{ more }} lines more.</p>
  <div ref="sheet" class="sheet"></div>
  <p v-if="pages">
    {{ shown }} of {{ pages }} pages.
    <NButton v-if="shown < pages && !busy" size="small" @click="draw(shown + somePages)">Show more</NButton>
  </p>
</template>

<style scoped>
.busy {
  display: block;
  margin: 40px auto;
}
.lines {
  font-size: 12px;
  overflow-x: auto;
}
.sheet :deep(canvas) {
  display: block;
  width: 100%;
  max-width: 760px;
  margin: 0 auto 14px;
  border: 1px solid #ccc;
  background: #fff;
}
</style>
