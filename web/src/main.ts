import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { makeRouter } from './router'
import { useSession } from './stores/session'
import { themeReady } from './theme'
import './style.css'

const pinia = createPinia()
// The token of a one-time link leaves the address bar before the router reads it.
useSession(pinia).takeLink()
void themeReady().then(() => createApp(App).use(pinia).use(makeRouter()).mount('#app'))
