import { createRouter, createWebHistory } from 'vue-router'
import AddressesPage from './pages/AddressesPage.vue'
import FindingsPage from './pages/FindingsPage.vue'
import HistoryPage from './pages/HistoryPage.vue'
import Home from './pages/Home.vue'
import MatchPage from './pages/MatchPage.vue'
import PlanPage from './pages/PlanPage.vue'
import SettingsPage from './pages/SettingsPage.vue'
import WalkPage from './pages/WalkPage.vue'

// Made on demand: it reads the address bar when it is made.
export const makeRouter = () => createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: Home, props: { tab: 'entries' } },
    { path: '/devices', component: Home, props: { tab: 'devices' } },
    { path: '/match', component: MatchPage },
    { path: '/walk', component: WalkPage },
    { path: '/plan', component: PlanPage },
    { path: '/addresses', component: AddressesPage },
    { path: '/findings', component: FindingsPage },
    { path: '/history', component: HistoryPage },
    { path: '/settings', component: SettingsPage },
    { path: '/:rest(.*)*', redirect: '/' },
  ],
})
