<script setup lang="ts">
import { NAlert, NButton, NSpin, NTabPane, NTable } from 'naive-ui'
import { Tabs } from '../tabs'
import * as pdf from 'pdfjs-dist'
import worker from 'pdfjs-dist/build/pdf.worker.min.mjs?url'
import { computed, nextTick, onBeforeUnmount, ref, watch } from 'vue'
import { Problem, siteCall } from '../../api'
import type { Bodies } from '../../api'
import { useMaking } from '../../stores/making'

// What was made is looked at before anybody gets it: the pages of a PDF as pictures, the sheets of
// a workbook, the files of an archive, the first lines of a text. All of it is read from the file
// that was made, and that very file is saved.
const props = defineProps<{ work: number }>()
const making = useMaking()

pdf.GlobalWorkerOptions.workerSrc = worker
const somePages = 4

const member = ref('')
const seen = ref<Bodies['Preview']>()
const wrong = ref('')
const busy = ref(true)
const pages = ref(0)
const shown = ref(0)
const sheet = ref<HTMLElement>()
const html = ref('')
const path = computed(() => making.madePath(props.work, member.value))
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

function close() {
  void document_?.loadingTask.destroy()
  document_ = undefined
}

async function open() {
  close()
  seen.value = undefined
  wrong.value = html.value = ''
  pages.value = shown.value = 0
  sheet.value?.replaceChildren()
  busy.value = true
  const of = member.value
  try {
    const preview = await siteCall('get', '/makings/{id}/preview', {
      path: { id: props.work },
      query: of ? { member: of } : {},
    })
    if (of !== member.value) return
    seen.value = preview
    if (preview.kind === 'page') html.value = await (await fetch(path.value)).text()
    if (preview.kind !== 'pages') return
    const data = await (await fetch(path.value)).arrayBuffer()
    document_ = await pdf.getDocument({ data, disableFontFace: true }).promise
    pages.value = document_.numPages
    await nextTick()
    await draw(somePages)
  } catch (e) {
    wrong.value = e instanceof Problem ? e.message : 'The preview cannot be drawn; save the document, and open that.'
  } finally {
    busy.value = false
  }
}
watch(member, open, { immediate: true })
onBeforeUnmount(close)

const size = (bytes: number) => (bytes < 10_000 ? `${bytes} bytes` : `${Math.round(bytes / 1000)} kB`)
const fileName = (name: string) => name.replace(/^.*\//, '')
</script>

<template>
  <div class="tools">
    <NButton v-if="member" size="small" data-test="preview-back" @click="member = ''">Back to the archive</NButton>
    <strong v-if="member">{{ member }}</strong>
    <NButton
      v-if="!busy && !wrong"
      size="small"
      data-test="preview-save"
      @click="making.keep(path, fileName(member || making.preview?.title || ''))"
      >Save this one</NButton
    >
  </div>
  <NAlert v-if="wrong" type="error" :show-icon="false" role="alert">{{ wrong }}</NAlert>
  <NSpin v-if="busy" class="busy" aria-label="The preview is being drawn" />
  <template v-if="seen?.kind === 'lines'">
    <pre class="lines" tabindex="0" data-test="lines">{{ (seen.lines ?? []).join('\n') }}</pre>
    <p v-if="seen.more">This is its beginning.</p>
  </template>
  <Tabs v-else-if="seen?.kind === 'sheets'" type="card" size="small" data-test="sheets">
    <NTabPane v-for="s in seen.sheets ?? []" :key="s.name" :name="s.name" :tab="s.name">
      <div class="grid" tabindex="0">
        <NTable size="small" :single-line="false">
          <tbody>
            <tr v-for="(row, r) in s.rows" :key="r">
              <td v-for="(cell, i) in row" :key="i" :class="{ heading: cell.heading, slanted: cell.slanted }">
                {{ cell.text }}
              </td>
            </tr>
          </tbody>
        </NTable>
      </div>
      <p v-if="s.more">There are more rows than these.</p>
    </NTabPane>
  </Tabs>
  <NTable v-else-if="seen?.kind === 'files'" size="small" :bordered="false" data-test="files">
    <tbody>
      <tr v-for="f in seen.files ?? []" :key="f.name">
        <td>{{ f.name }}</td>
        <td class="faint">{{ size(f.size) }}</td>
        <td class="do">
          <NButton size="tiny" quaternary :data-test="'look-in-' + f.name" @click="member = f.name">Look</NButton>
        </td>
      </tr>
    </tbody>
  </NTable>
  <iframe v-else-if="html" :srcdoc="html" sandbox="" inert title="The page" class="framed" data-test="framed"></iframe>
  <img v-else-if="seen?.kind === 'drawing'" :src="'/api/' + path" :alt="member" class="drawing" />
  <div ref="sheet" class="sheet"></div>
  <p v-if="pages">
    {{ shown }} of {{ pages }} pages.
    <NButton v-if="shown < pages && !busy" size="small" @click="draw(shown + somePages)">Show more</NButton>
  </p>
</template>

<style scoped>
.tools {
  margin-bottom: 10px;
}
.busy {
  display: block;
  margin: 40px auto;
}
.lines {
  font-size: 12px;
  overflow-x: auto;
}
.grid {
  max-height: 70vh;
  overflow: auto;
}
.grid td {
  white-space: nowrap;
  font-size: 12px;
}
.grid td.heading {
  font-weight: 600;
  background: var(--head);
  position: sticky;
  top: 0;
}
.grid td.slanted {
  font-style: italic;
  color: var(--faint);
}
.do {
  width: 80px;
  text-align: right;
}
.framed {
  width: 100%;
  height: 1100px;
  border: 1px solid var(--line);
  background: #fff;
}
.drawing {
  max-width: 100%;
  border: 1px solid var(--line);
  background: #fff;
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
