import { createRouter, createWebHistory } from 'vue-router'
import Home from './pages/Home.vue'

// Made on demand: it reads the address bar when it is made.
export const makeRouter = () => createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: Home, props: { tab: 'entries' } },
    { path: '/devices', component: Home, props: { tab: 'devices' } },
    { path: '/:rest(.*)*', redirect: '/' },
  ],
})
