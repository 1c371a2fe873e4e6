<script setup lang="ts">
import { NAlert, NButton, NCard, NForm, NFormItem, NInput } from 'naive-ui'
import { ref } from 'vue'
import { useSession } from '../stores/session'

const session = useSession()
const name = ref('owner')
const password = ref('')
const wrong = ref('')
const waiting = ref(false)

async function submit() {
  waiting.value = true
  wrong.value = ''
  try {
    await session.signIn(name.value, password.value)
  } catch (e) {
    wrong.value = (e as Error).message
  } finally {
    waiting.value = false
    password.value = ''
  }
}
</script>

<template>
  <div class="page">
    <NCard title="Sign in to Redstart" class="card">
      <NForm @submit.prevent="submit">
        <NFormItem label="User" :show-feedback="false"
          ><NInput v-model:value="name" :input-props="{ autocomplete: 'username', 'aria-label': 'User' }"
        /></NFormItem>
        <NFormItem label="Password" :show-feedback="false" style="margin-top: 12px">
          <NInput
            v-model:value="password"
            type="password"
            show-password-on="click"
            :input-props="{ autocomplete: 'current-password', 'aria-label': 'Password', id: 'password' }" />
        </NFormItem>
        <NAlert v-if="wrong" type="error" :show-icon="false" role="alert" style="margin-top: 12px">{{ wrong }}</NAlert>
        <NButton attr-type="submit" type="primary" block :loading="waiting" style="margin-top: 16px">Sign in</NButton>
      </NForm>
    </NCard>
  </div>
</template>

<style scoped>
.page {
  display: grid;
  place-items: center;
  min-height: 100%;
  padding: 16px;
  box-sizing: border-box;
}
.card {
  max-width: 360px;
}
</style>
