import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { call, onSignedOut, Problem } from '../api'
import { deaf, live } from '../events'
import { useSite } from './site'

/** The kind of problem that tells that nobody is signed in. */
const notSignedIn = 'urn:redstart:problem:sign-in'

/** Who is signed in, and what they may. */
export const useSession = defineStore('session', () => {
  const site = useSite()
  const user = ref<string | null>() // undefined: not known yet; null: signed out
  const rights = ref('look')
  const mayPlan = computed(() => ['plan', 'commission', 'own'].includes(rights.value))
  const mayCommission = computed(() => ['commission', 'own'].includes(rights.value))

  let link = ''
  /** Takes the link that signs in once out of the address. */
  function takeLink() {
    link = /^#once=(.+)$/.exec(location.hash)?.[1] ?? ''
    if (link) history.replaceState(null, '', location.pathname)
  }

  async function start() {
    try {
      const once = link
      link = ''
      if (once) await call('post', '/session', { body: { link: once } })
      const who = await call('get', '/session')
      user.value = who.user
      rights.value = who.rights
      await site.loadSites()
      site.follow(() => void start())
    } catch (e) {
      if (e instanceof Problem && e.status === 0 && user.value) return void setTimeout(() => void start(), 2000)
      user.value = null
      if (e instanceof Problem && e.type !== notSignedIn) throw e
    }
  }

  async function signIn(name: string, password: string) {
    await call('post', '/session', { body: { user: name, password } })
    await start()
  }

  async function signOut() {
    await call('delete', '/session')
    forget()
  }

  function forget() {
    deaf()
    user.value = null
  }
  onSignedOut(forget)

  return { user, rights, live, mayPlan, mayCommission, takeLink, start, signIn, signOut }
})
