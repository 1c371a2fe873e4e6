<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { NAlert, NButton, NDrawer, NDrawerContent, NForm, NFormItem, NInput } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import type { Patch, Setting } from '../api'
import { isSecret, siteCall, valueOf } from '../api'
import { plural } from '../format'
import type { Field } from '../sheet/columns'
import { helpOf } from '../sheet/columns'
import { usePlan } from '../stores/plan'
import { useSite } from '../stores/site'
import RowsField from './RowsField.vue'
import SubnetHint from './SubnetHint.vue'
import { Choice } from './choice'

// One entry as a form, or what several of a selection are to have in common.
const show = defineModel<boolean>('show', { required: true })
const props = defineProps<{ tags: string[]; fields: Field[] }>()
const emit = defineEmits<{ change: [patches: Patch[], what: string] }>()
const site = useSite()
const plan = usePlan()
const narrow = useMediaQuery('(max-width: 900px)')
const values = ref<Record<string, string>>({})
const touched = ref<Set<string>>(new Set())
const notes = ref<Record<string, string>>({})
const many = computed(() => props.tags.length > 1)
const entry = computed(() => (props.tags.length === 1 ? plan.entries.find((e) => e.tag === props.tags[0]) : undefined))
const title = computed(() => (many.value ? plural(props.tags.length, 'entry') : (props.tags[0] ?? 'New entry')))
const profileId = computed(() => values.value.profile ?? entry.value?.profile ?? '')

// For several, the settings that all of their profiles have.
const settings = computed<Setting[]>(() => {
  const ids =
    many.value && !touched.value.has('profile')
      ? [...new Set(props.tags.map((t) => plan.entries.find((e) => e.tag === t)?.profile ?? ''))]
      : [profileId.value]
  const lists = ids.map((id) => site.byId.get(id)?.settings ?? [])
  return (lists[0] ?? []).filter((s) => s.type !== 'computed' && lists.every((l) => l.some((x) => x.key === s.key)))
})
const shownFields = computed(() =>
  props.fields.filter((f) => f.key !== 'kind' && !(many.value && ['tag', 'mac', 'serial'].includes(f.key))),
)

const files = ref<string[]>([]) // of the site, by name
watch(show, async (open) => {
  if (open) files.value = (await siteCall('get', '/files').catch(() => [])).map((f) => f.name)
})
watch(show, (open) => {
  if (!open) return
  touched.value = new Set()
  notes.value = {}
  values.value = {}
  if (entry.value)
    for (const f of [...props.fields.map((x) => x.key), ...settings.value.map((s) => s.key)])
      values.value[f] = valueOf(entry.value, f)
  else if (!many.value) values.value = { address: 'next', name: 'auto' }
})

const options = (list: string[]) => list.map((v) => ({ label: v, value: v }))
const tagsOf = (kinds?: string[]) =>
  plan.entries.filter((e) => !kinds?.length || kinds.includes(e.kind)).map((e) => e.tag)
function choicesOf(s: Setting): string[] | null {
  if (s.type === 'choice') return s.choices ?? []
  if (s.type === 'yes-no') return ['yes', 'no']
  if (s.type === 'file') return files.value
  if (s.type === 'entry') return tagsOf(s.kinds)
  if (s.type === 'setting') return tagsOf(s.kinds).flatMap((t) => (s.of ?? []).map((k) => `${t}/${k}`))
  return null
}
const choices: Record<string, () => string[]> = {
  profile: () => site.profiles.map((p) => p.id),
  subnet: () => (site.site?.subnets ?? []).map((n) => n.name),
  'not-wired': () => ['yes'],
}

function set(key: string, value: string | string[] | null) {
  values.value = { ...values.value, [key]: Array.isArray(value) ? value.join(' ') : (value ?? '') }
  touched.value = new Set(touched.value).add(key)
  soon()
}

const patches = computed<Patch[]>(() => {
  const set: Record<string, string> = {}
  for (const key of touched.value)
    if (many.value || !entry.value || values.value[key] !== valueOf(entry.value, key))
      set[key] = values.value[key] ?? ''
  const p = set.profile && site.byId.get(set.profile)
  if (p) set.kind = p.kind
  if (many.value) return Object.keys(set).length ? props.tags.map((tag) => ({ tag, set })) : []
  if (entry.value) return Object.keys(set).length ? [{ tag: entry.value.tag, set }] : []
  return values.value.tag ? [{ tag: '', set: { ...values.value, ...set } }] : []
})

// The checks look on while somebody types.
let timer: ReturnType<typeof setTimeout> | undefined
function soon() {
  clearTimeout(timer)
  timer = setTimeout(async () => {
    const list = patches.value
    if (!list.length) return void (notes.value = {})
    const out = await siteCall('patch', '/entries', {
      query: { preview: true },
      body: { what: '', patches: list, configured: false },
    }).catch(() => null)
    if (!out || patches.value !== list) return
    const tags = new Set(list.map((p) => p.set?.tag || p.tag))
    notes.value = {}
    for (const f of out.findings ?? []) if (tags.has(f.tag)) notes.value[f.field] ??= f.reason
    for (const f of out.new ?? [])
      if (f.tag && !tags.has(f.tag) && touched.value.has(f.field)) notes.value[f.field] ??= `${f.tag}: ${f.reason}`
    for (const c of out.complaints) notes.value[c.field ?? ''] = c.reason
  }, 200)
}

function save() {
  emit('change', patches.value, many.value ? `${plural(props.tags.length, 'entry')} changed together` : title.value)
  show.value = false
}

function remove(tag: string) {
  emit('change', [{ tag, remove: true }], `${tag} removed`)
  show.value = false
}
</script>

<template>
  <NDrawer v-model:show="show" :width="narrow ? '100%' : 520" placement="right">
    <NDrawerContent :title="title" closable :native-scrollbar="false">
      <p v-if="many" class="faint">Only what you fill in is changed, in all of them.</p>
      <NForm
        label-placement="left"
        :label-width="narrow ? 105 : 130"
        size="small"
        data-test="entry-form"
        @submit.prevent="save">
        <NFormItem
          v-for="f in shownFields"
          :key="f.key"
          :label="f.label"
          :show-feedback="!!notes[f.key]"
          :feedback="notes[f.key]"
          :validation-status="notes[f.key] ? 'warning' : undefined">
          <Choice
            v-if="choices[f.key]"
            :value="values[f.key] || null"
            :options="options(choices[f.key]?.() ?? [])"
            filterable
            clearable
            :placeholder="f.help"
            :name="f.label"
            :data-test="'field-' + f.key"
            @update:value="set(f.key, $event)" />
          <Choice
            :name="f.label"
            v-else-if="f.key === 'after'"
            :value="(values.after ?? '').split(' ').filter(Boolean)"
            :options="options(tagsOf())"
            multiple
            filterable
            :placeholder="f.help"
            @update:value="set('after', $event)" />
          <div v-else class="grow">
            <NInput
              :value="values[f.key] ?? ''"
              :placeholder="many ? 'unchanged' : f.help"
              :class="{ mono: ['address', 'mac'].includes(f.key) }"
              :input-props="{ 'aria-label': f.label, title: f.help }"
              :data-test="'field-' + f.key"
              @update:value="set(f.key, $event)" />
            <SubnetHint v-if="f.key === 'address'" :of="values.address ?? ''" />
          </div>
        </NFormItem>
        <template v-if="settings.length">
          <h3>Settings of the {{ site.byId.get(profileId)?.model ?? 'model' }}</h3>
          <NFormItem
            v-for="s in settings"
            :key="s.key"
            :label="s.label"
            :label-placement="s.type === 'rows' ? 'top' : undefined"
            :show-feedback="!!notes[s.key]"
            :feedback="notes[s.key]"
            :validation-status="notes[s.key] ? 'warning' : undefined"
            :required="s.required">
            <Choice
              :name="s.label"
              v-if="s.many"
              :value="(values[s.key] ?? '').split(' ').filter(Boolean)"
              :options="options(tagsOf(s.kinds))"
              multiple
              filterable
              :placeholder="helpOf(s)"
              @update:value="set(s.key, $event)" />
            <Choice
              :name="s.label"
              v-else-if="choicesOf(s)"
              :value="values[s.key] || null"
              :options="options(choicesOf(s)!)"
              filterable
              clearable
              :placeholder="helpOf(s)"
              :data-test="'field-' + s.key"
              @update:value="set(s.key, $event)" />
            <RowsField
              v-else-if="s.type === 'rows'"
              :setting="s"
              :value="values[s.key] ?? ''"
              @update:value="set(s.key, $event)" />
            <NInput
              v-else-if="s.type === 'secret'"
              :value="isSecret(values[s.key] ?? '') ? '' : (values[s.key] ?? '')"
              type="password"
              show-password-on="click"
              :placeholder="isSecret(values[s.key] ?? '') ? '••• kept in the vault' : helpOf(s)"
              :input-props="{ autocomplete: 'new-password', 'aria-label': s.label }"
              @update:value="set(s.key, $event)" />
            <NInput
              v-else
              :value="values[s.key] ?? ''"
              :placeholder="many ? 'unchanged' : helpOf(s)"
              :input-props="{
                'aria-label': s.label,
                title: helpOf(s),
                inputmode: s.type === 'number' ? 'numeric' : 'text',
              }"
              :data-test="'field-' + s.key"
              @update:value="set(s.key, $event)">
              <template v-if="s.unit" #suffix>{{ s.unit }}</template>
            </NInput>
          </NFormItem>
        </template>
        <NAlert v-if="notes['']" type="error" :show-icon="false">{{ notes[''] }}</NAlert>
        <div class="foot">
          <NButton v-if="entry" class="left" @click="remove(entry.tag)">Remove</NButton
          ><NButton @click="show = false">Cancel</NButton
          ><NButton type="primary" attr-type="submit" :disabled="!patches.length" data-test="entry-save">{{
            entry || many ? 'Save' : 'Add'
          }}</NButton>
        </div>
      </NForm>
    </NDrawerContent>
  </NDrawer>
</template>

<style scoped>
.left {
  margin-right: auto;
}
.foot {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
  margin-top: 12px;
}
h3 {
  font-size: 14px;
  margin: 12px 0 8px;
}
:deep(.n-form-item) {
  margin-bottom: 6px;
}
</style>
