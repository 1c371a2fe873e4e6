import { createRouter, createWebHistory } from 'vue-router'
import Home from './pages/Home.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: Home, props: { tab: 'entries' } },
    { path: '/devices', component: Home, props: { tab: 'devices' } },
    { path: '/:rest(.*)*', redirect: '/' },
  ],
})
