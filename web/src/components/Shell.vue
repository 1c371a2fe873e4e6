<script setup lang="ts">
import { Logout, Moon, Settings, Sun } from '@vicons/tabler'
import { NButton, NIcon, NLayout, NLayoutHeader, NSpin, useMessage } from 'naive-ui'
import { onMounted, ref } from 'vue'
import SignIn from '../pages/SignIn.vue'
import { useSite } from '../site'
import { useTheme } from '../theme'
import SiteDialog from './SiteDialog.vue'

const site = useSite()
const { isDark, toggle } = useTheme()
const message = useMessage()
const settings = ref(false)
onMounted(() => site.start().catch((e: Error) => message.error(e.message, { duration: 8000 })))
</script>

<template>
  <NSpin v-if="site.user === undefined" style="margin-top: 30vh" description="Looking for the service" />
  <SignIn v-else-if="site.user === null" />
  <NLayout v-else style="height: 100%" content-style="display: flex; flex-direction: column; height: 100%">
    <NLayoutHeader bordered class="header">
      <img src="/icon.svg" alt="" width="24" height="24">
      <strong>Redstart</strong>
      <span class="where">
        <span>{{ site.site?.name || 'No site yet' }}</span>
        <span v-if="site.site?.subnet.prefix" class="faint mono wide">{{ site.site.subnet.prefix }}</span>
      </span>
      <span class="grow" />
      <span class="faint wide" data-test="segment">{{ site.segment ? 'On: ' + site.segment : 'Not plugged in' }}</span>
      <span :class="site.live ? 'faint' : 'lost'" role="status" data-test="live">{{ site.live ? '● live' : '○ not connected, trying again' }}</span>
      <NButton quaternary circle size="small" aria-label="Site settings" @click="settings = true"><template #icon><NIcon :component="Settings" /></template></NButton>
      <NButton quaternary circle size="small" :aria-label="isDark ? 'Light colours' : 'Dark colours'" data-test="theme" @click="toggle">
        <template #icon><NIcon :component="isDark ? Sun : Moon" /></template>
      </NButton>
      <NButton quaternary circle size="small" :aria-label="'Sign out ' + site.user" @click="site.signOut"><template #icon><NIcon :component="Logout" /></template></NButton>
    </NLayoutHeader>
    <main class="main"><RouterView /></main>
    <SiteDialog v-model:show="settings" />
  </NLayout>
</template>

<style scoped>
.header { display: flex; align-items: center; gap: 10px; padding: 6px 16px; }
.where { display: flex; gap: 8px; align-items: baseline; min-width: 0; overflow: hidden; white-space: nowrap; text-overflow: ellipsis; }
.grow { flex: 1; }
.header [role="status"] { white-space: nowrap; }
.lost { color: var(--bad); font-weight: 600; }
.main { flex: 1; min-height: 0; }
@media (max-width: 700px) { .wide { display: none; } .header { padding: 6px 8px; gap: 6px; } }
</style>
