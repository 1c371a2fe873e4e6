import { createRouter, createWebHistory } from 'vue-router'

// Pages are fetched when they are first opened. Made on demand: it reads the address bar when it is made.
export function makeRouter() {
  const router = createRouter({
    history: createWebHistory(),
    routes: [
      { path: '/', component: () => import('./pages/Home.vue'), props: { tab: 'entries' } },
      { path: '/devices', component: () => import('./pages/Home.vue'), props: { tab: 'devices' } },
      { path: '/match', component: () => import('./pages/MatchPage.vue') },
      { path: '/walk', component: () => import('./pages/WalkPage.vue') },
      { path: '/hands', component: () => import('./pages/HandsPage.vue') },
      { path: '/plan', component: () => import('./pages/PlanPage.vue') },
      { path: '/addresses', component: () => import('./pages/AddressesPage.vue') },
      { path: '/findings', component: () => import('./pages/FindingsPage.vue') },
      { path: '/handover', component: () => import('./pages/HandoverPage.vue') },
      { path: '/history', component: () => import('./pages/HistoryPage.vue') },
      { path: '/settings', component: () => import('./pages/SettingsPage.vue') },
      { path: '/:rest(.*)*', redirect: '/' },
    ],
  })
  // A service that was brought up to date has other files: the whole page is read anew.
  router.onError((e, to) => {
    if (e instanceof TypeError) location.assign(to.fullPath)
  })
  return router
}
