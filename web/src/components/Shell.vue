<script setup lang="ts">
import { NButton, NIcon, NLayout, NLayoutHeader, NSpin, useMessage } from 'naive-ui'
import { computed, defineAsyncComponent, onMounted } from 'vue'
import { useRouter } from 'vue-router'
import { Lock, Moon, Out, Sliders, Sun } from '../icons'
import { usePlan } from '../stores/plan'
import { useSegment } from '../stores/segment'
import { useSession } from '../stores/session'
import { useSite } from '../stores/site'
import { useWork } from '../stores/work'
import { useTheme } from '../theme'
import { Choice } from './choice'

// Whoever is signed in needs nothing of it.
const SignIn = defineAsyncComponent(() => import('../pages/SignIn.vue'))
const session = useSession()
const site = useSite()
const plan = usePlan()
const segment = useSegment()
const work = useWork()
const router = useRouter()
const { isDark, toggle } = useTheme()
const message = useMessage()
const stops = computed(() => plan.findings.filter((f) => f.level === 'stops').length)
// What the segment holds is by far the most: only pages that begin with it wait for it.
const ofSegment = ['/devices', '/match', '/walk', '/findings']
const shown = computed(() => {
  const { path } = router.currentRoute.value
  if (path === '/plan' && plan.entries.length) return true
  return ofSegment.includes(path) ? site.whole : site.ready
})
const siteOptions = computed(() => site.sites.map((s) => ({ label: s.name, value: s.key })))
onMounted(() => session.start().catch((e: Error) => message.error(e.message, { duration: 8000 })))
</script>

<template>
  <NSpin v-if="session.user === undefined" style="margin-top: 30vh" description="Looking for the service" />
  <SignIn v-else-if="session.user === null" />
  <NLayout v-else style="height: 100%" content-style="display: flex; flex-direction: column; height: 100%">
    <NLayoutHeader bordered class="header">
      <img src="/icon.svg" alt="Redstart" width="24" height="24" />
      <Choice
        v-if="site.sites.length > 1"
        :value="site.key"
        :options="siteOptions"
        size="small"
        class="chooser"
        name="Site"
        data-test="site"
        @update:value="site.open" />
      <strong v-else class="where">{{ site.site?.name || 'No site yet' }}</strong>
      <nav aria-label="Pages">
        <RouterLink to="/" data-test="nav-work">Work</RouterLink>
        <RouterLink to="/match" data-test="nav-match">Match</RouterLink>
        <RouterLink to="/walk" data-test="nav-walk">On foot</RouterLink>
        <RouterLink to="/hands" data-test="nav-hands"
          >By hand<span v-if="work.hands.length" class="stops" :title="`${work.hands.length} wait for a hand`">{{
            work.hands.length
          }}</span></RouterLink
        >
        <RouterLink to="/plan" data-test="nav-plan">Plan</RouterLink>
        <RouterLink to="/addresses" data-test="nav-addresses">Addresses</RouterLink>
        <RouterLink to="/findings" data-test="nav-findings"
          >Findings<span v-if="stops" class="stops" :title="`${stops} stop commissioning`">{{
            stops
          }}</span></RouterLink
        >
        <RouterLink to="/handover" data-test="nav-handover">Hand over</RouterLink>
        <RouterLink to="/history" data-test="nav-history">History</RouterLink>
      </nav>
      <span class="grow" />
      <span class="faint wide" data-test="segment">{{
        segment.name ? 'On: ' + segment.name : segment.read ? 'Not plugged in' : ''
      }}</span>
      <button v-if="site.locked" class="link lost" data-test="locked" @click="router.push('/settings#vault')">
        <NIcon aria-hidden="true" :component="Lock" /> vault locked
      </button>
      <span :class="session.live ? 'faint' : 'lost'" role="status" data-test="live">{{
        session.live ? '● live' : '○ not connected, trying again'
      }}</span>
      <NButton
        quaternary
        circle
        size="small"
        aria-label="Settings"
        data-test="settings"
        @click="router.push('/settings')"
        ><template #icon><NIcon aria-hidden="true" :component="Sliders" /></template
      ></NButton>
      <NButton
        quaternary
        circle
        size="small"
        :aria-label="isDark ? 'Light colours' : 'Dark colours'"
        data-test="theme"
        @click="toggle">
        <template #icon><NIcon aria-hidden="true" :component="isDark ? Sun : Moon" /></template>
      </NButton>
      <NButton quaternary circle size="small" :aria-label="'Sign out ' + session.user" @click="session.signOut"
        ><template #icon><NIcon aria-hidden="true" :component="Out" /></template
      ></NButton>
    </NLayoutHeader>
    <main class="main">
      <RouterView v-if="shown" :key="site.key" />
      <NSpin v-else style="margin-top: 30vh; width: 100%" description="Reading the site" />
    </main>
  </NLayout>
</template>

<style scoped>
.header {
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 6px 16px;
}
.where {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.chooser {
  width: 240px;
}
.header > .wide {
  min-width: 80px;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.grow {
  flex: 1;
}
nav {
  display: flex;
  gap: 2px;
}
nav a {
  padding: 3px 8px;
  border-radius: 4px;
  color: inherit;
  text-decoration: none;
  white-space: nowrap;
}
nav a:hover {
  background: var(--hover);
}
nav a.router-link-exact-active {
  font-weight: 600;
  box-shadow: inset 0 -2px #c65a2e;
  border-radius: 4px 4px 0 0;
}
.stops {
  margin-left: 5px;
  padding: 0 6px;
  border-radius: 9px;
  background: var(--bad);
  color: var(--card);
  font-size: 12px;
  font-weight: 600;
}
.header [role='status'],
.header button {
  white-space: nowrap;
}
.lost {
  color: var(--bad);
  font-weight: 600;
}
.main {
  flex: 1;
  min-height: 0;
}
@media (max-width: 1100px) {
  .wide {
    display: none;
  }
}
@media (max-width: 700px) {
  .header {
    padding: 6px 8px;
    gap: 4px 6px;
    flex-wrap: wrap;
  }
  .where,
  .chooser {
    max-width: 40vw;
  }
  nav {
    order: 1;
    width: 100%;
    overflow-x: auto;
  }
}
</style>
