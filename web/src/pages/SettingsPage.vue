<script setup lang="ts">
import { NTabPane } from 'naive-ui'
import { Tabs } from '../components/tabs'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import LoginSettings from '../components/LoginSettings.vue'
import LicenceList from '../components/LicenceList.vue'
import PeopleSettings from '../components/PeopleSettings.vue'
import PortRoles from '../components/PortRoles.vue'
import SiteSettings from '../components/SiteSettings.vue'
import SubnetSettings from '../components/SubnetSettings.vue'
import { useSite } from '../stores/site'

const site = useSite()
const route = useRoute()
const router = useRouter()
const tab = computed({ get: () => route.hash.slice(1) || 'site', set: (t) => void router.replace('#' + t) })
</script>

<template>
  <div class="page">
    <Tabs v-model:value="tab" type="line" size="small">
      <NTabPane name="site" tab="Site"><SiteSettings /></NTabPane>
      <NTabPane name="subnets" tab="Subnets" :disabled="!site.key"><SubnetSettings /></NTabPane>
      <NTabPane name="ports" tab="Ports of switches" :disabled="!site.key"><PortRoles /></NTabPane>
      <NTabPane name="licences" tab="Licences" :disabled="!site.key"><LicenceList /></NTabPane>
      <NTabPane name="vault" tab="Logins and vault"><LoginSettings /></NTabPane>
      <NTabPane name="people" tab="People and tokens"><PeopleSettings /></NTabPane>
    </Tabs>
  </div>
</template>

<style scoped>
.page {
  height: 100%;
  overflow-y: auto;
  padding: 4px 16px 16px;
  box-sizing: border-box;
  max-width: 1000px;
}
@media (max-width: 900px) {
  .page {
    padding: 4px 8px;
  }
}
</style>
