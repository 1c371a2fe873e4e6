<script setup lang="ts">
import {
  NAlert,
  NButton,
  NCard,
  NCheckbox,
  NCheckboxGroup,
  NForm,
  NFormItem,
  NInput,
  NInputNumber,
  NTable,
  useMessage,
} from 'naive-ui'
import { computed, onMounted, reactive, ref } from 'vue'
import { call } from '../api'
import type { Token, User } from '../api'
import { clock } from '../format'
import { useSession } from '../stores/session'
import { Choice } from './choice'

const session = useSession()
const message = useMessage()
const users = ref<User[]>([])
const tokens = ref<Token[]>([])
const shown = ref('')
const wrong = ref('')
const form = reactive({ name: '', password: '', rights: 'look' })
const own = reactive({ old: '', new: '', keep: [] as string[] })
const token = reactive({ name: '', rights: 'look', days: 90 })
// A token may at most what its maker may.
const mine = computed(() => rights.slice(0, rights.findIndex((r) => r.value === session.rights) + 1))
// One's own tokens end with the password, but for those that are to go on.
const ending = computed(() => tokens.value.filter((t) => t.user === session.user).map((t) => t.name))
const rights = [
  { label: 'may only look', value: 'look' },
  { label: 'may change plans', value: 'plan' },
  { label: 'may change plans and work on devices', value: 'commission' },
  { label: 'may do everything', value: 'own' },
]

async function load() {
  if (session.rights === 'own') users.value = await call('get', '/users')
  tokens.value = await call('get', '/tokens')
}
onMounted(load)
async function attempt(what: () => Promise<unknown>, done = '') {
  wrong.value = ''
  try {
    await what()
    await load()
    if (done) message.success(done)
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
const add = () =>
  attempt(async () => {
    await call('post', '/users', { body: form })
    Object.assign(form, { name: '', password: '', rights: 'look' })
  }, 'Made')
const setRights = (u: User, value: string) =>
  attempt(
    () => call('put', '/users/{name}', { path: { name: u.name }, body: { rights: value, password: '' } }),
    'Saved',
  )
const remove = (u: User) => attempt(() => call('delete', '/users/{name}', { path: { name: u.name } }))
const addToken = () =>
  attempt(async () => {
    shown.value = (await call('post', '/tokens', { body: token })).token
    token.name = ''
  })
const revoke = (t: Token) => attempt(() => call('delete', '/tokens/{id}', { path: { id: t.id } }))
async function change() {
  wrong.value = ''
  try {
    await call('put', '/session/password', { body: own })
    await session.start() // every session has ended: sign in with the new one
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
</script>

<template>
  <NAlert v-if="wrong" type="error" :show-icon="false" role="alert" class="gap">{{ wrong }}</NAlert>
  <NCard v-if="session.rights === 'own'" size="small" title="People" class="gap">
    <NTable size="small" :bordered="false" data-test="users">
      <tbody>
        <tr v-for="u in users" :key="u.name">
          <td>
            <strong>{{ u.name }}</strong>
          </td>
          <td>
            <Choice
              :value="u.rights"
              :options="rights"
              size="tiny"
              :name="'Right of ' + u.name"
              @update:value="setRights(u, $event)" />
          </td>
          <td><NButton size="tiny" :disabled="u.name === session.user" @click="remove(u)">Remove</NButton></td>
        </tr>
      </tbody>
    </NTable>
    <NForm inline size="small" :show-feedback="false" class="line" @submit.prevent="add">
      <NFormItem
        ><NInput v-model:value="form.name" placeholder="name" :input-props="{ 'aria-label': 'Name', id: 'user-name' }"
      /></NFormItem>
      <NFormItem
        ><NInput
          v-model:value="form.password"
          type="password"
          placeholder="password, at least 10 characters"
          show-password-on="click"
          :input-props="{ autocomplete: 'new-password', 'aria-label': 'Password', id: 'user-password' }"
      /></NFormItem>
      <NFormItem><Choice v-model:value="form.rights" :options="rights" class="right" name="Right" /></NFormItem>
      <NButton type="primary" size="small" attr-type="submit" data-test="user-add">Make the user</NButton>
    </NForm>
  </NCard>
  <NCard size="small" title="API tokens" class="gap">
    <p class="faint">
      With a token a program or another computer acts for you: REDSTART_URL and REDSTART_TOKEN for the command line.
    </p>
    <NTable v-if="tokens.length" size="small" :bordered="false"
      ><tbody>
        <tr v-for="t in tokens" :key="t.id">
          <td>
            <strong>{{ t.name }}</strong>
          </td>
          <td>{{ t.user }}</td>
          <td>{{ rights.find((r) => r.value === t.rights)?.label }}</td>
          <td>made {{ clock(t.madeAt) }}</td>
          <td>{{ t.expiresAt ? 'until ' + clock(t.expiresAt) : 'until it is revoked' }}</td>
          <td>last used {{ clock(t.usedAt) }}</td>
          <td><NButton size="tiny" @click="revoke(t)">Revoke</NButton></td>
        </tr>
      </tbody></NTable
    >
    <NAlert v-if="shown" type="success" :show-icon="false" closable class="gap" @close="shown = ''"
      >Shown only now: <span class="mono" data-test="token">{{ shown }}</span></NAlert
    >
    <form class="line" @submit.prevent="addToken">
      <NInput
        v-model:value="token.name"
        size="small"
        placeholder="what will use it"
        :input-props="{ 'aria-label': 'Token name', id: 'token-name' }" /><Choice
        v-model:value="token.rights"
        :options="mine"
        size="small"
        class="right"
        name="Right of the token" /><NInputNumber
        :value="token.days"
        @update:value="(n) => (token.days = n ?? token.days)"
        :min="1"
        :max="366"
        size="small"
        class="days"
        :input-props="{ 'aria-label': 'Days' }"
        ><template #suffix>days</template></NInputNumber
      ><NButton size="small" attr-type="submit" :disabled="!token.name">Make a token</NButton>
    </form>
  </NCard>
  <NCard size="small" title="Your password" class="gap">
    <form class="line" @submit.prevent="change">
      <NInput
        v-model:value="own.old"
        type="password"
        size="small"
        placeholder="old password"
        :input-props="{ autocomplete: 'current-password', 'aria-label': 'Old password' }" />
      <NInput
        v-model:value="own.new"
        type="password"
        size="small"
        placeholder="new password"
        :input-props="{ autocomplete: 'new-password', 'aria-label': 'New password' }" />
      <NButton size="small" attr-type="submit" :disabled="!own.old || own.new.length < 10"
        >Change, and sign in again</NButton
      >
    </form>
    <p v-if="ending.length" class="faint">
      Your tokens end with the old password. These go on:
      <NCheckboxGroup :value="own.keep" @update:value="(keys) => (own.keep = keys as string[])"
        ><NCheckbox v-for="name in ending" :key="name" :value="name" :label="name"
      /></NCheckboxGroup>
    </p>
  </NCard>
</template>

<style scoped>
.gap {
  margin-bottom: 12px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  margin-top: 8px;
}
.line :deep(.n-input) {
  width: 260px;
}
.right {
  width: 280px;
}
.days {
  width: 130px;
}
p {
  margin: 4px 0;
}
</style>
