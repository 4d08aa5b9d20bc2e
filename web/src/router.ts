import { createRouter, createWebHistory } from 'vue-router'
import { projects, recall, who } from './api/session'
import DevicePage from './pages/DevicePage.vue'
import EntriesPage from './pages/EntriesPage.vue'
import LostPage from './pages/LostPage.vue'
import SignInPage from './pages/SignInPage.vue'
import StartPage from './pages/StartPage.vue'
import WelcomePage from './pages/WelcomePage.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: StartPage },
    { path: '/sign-in', component: SignInPage, meta: { open: true } },
    { path: '/welcome', component: WelcomePage, meta: { open: true } },
    { path: '/projects/:project/entries', name: 'entries', component: EntriesPage, props: true },
    { path: '/projects/:project/environments/:environment/entries/:name', name: 'entry', component: EntriesPage, props: true },
    { path: '/device', component: DevicePage },
    { path: '/trail', name: 'trail', component: () => import('./pages/TrailPage.vue') },
    { path: '/:rest(.*)*', component: LostPage }
  ]
})

router.beforeEach(async (to) => {
  if (who.value === undefined) await recall().catch(() => {})
  if (who.value === null && !to.meta.open) return { path: '/sign-in', query: to.path === '/' ? {} : { to: to.fullPath } }
  if (to.path === '/' && projects.value[0]) return { name: 'entries', params: { project: projects.value[0].name } }
  return true
})
