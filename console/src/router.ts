import { createRouter, createWebHistory } from 'vue-router'

import { session } from './session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/today' },
    { path: '/sign-in', component: () => import('./pages/SignIn.vue'), meta: { open: true, title: 'Sign in' } },
    { path: '/today', component: () => import('./pages/Today.vue'), meta: { title: 'Today' } },
    { path: '/units', component: () => import('./pages/Units.vue'), meta: { title: 'Units' } },
    { path: '/units/:unit', component: () => import('./pages/Unit.vue'), props: true, meta: { title: 'Unit' } },
    { path: '/handover/:unit', component: () => import('./pages/HandOver.vue'), props: true, meta: { title: 'Hand-over' } },
    { path: '/sites', component: () => import('./pages/Sites.vue'), meta: { title: 'Sites' } },
    { path: '/jobs', component: () => import('./pages/Jobs.vue'), meta: { title: 'Jobs' } },
    { path: '/jobs/:job', component: () => import('./pages/Job.vue'), props: true, meta: { title: 'Job' } },
    { path: '/releases', component: () => import('./pages/Releases.vue'), meta: { title: 'Releases' } },
    { path: '/releases/new', component: () => import('./pages/NewRelease.vue'), meta: { title: 'New release' } },
    { path: '/releases/:release', component: () => import('./pages/Release.vue'), props: true, meta: { title: 'Release' } },
    { path: '/models/:model', component: () => import('./pages/Model.vue'), props: true, meta: { title: 'Model' } },
    { path: '/inspect', component: () => import('./pages/Inspect.vue'), meta: { title: 'What is in a file' } },
    { path: '/keys', component: () => import('./pages/Keys.vue'), meta: { title: 'Keys' } },
    { path: '/gear', component: () => import('./pages/Gear.vue'), meta: { title: 'Gear' } },
    { path: '/card/:unit', component: () => import('./pages/Card.vue'), props: true, meta: { title: 'Card' } },
    { path: '/check/:bench/:link', component: () => import('./pages/Check.vue'), props: true, meta: { title: 'Connect and prove' } },
    { path: '/vehicle/:bench/:link', component: () => import('./pages/Vehicle.vue'), props: true, meta: { title: 'Vehicle' } },
    { path: '/rounds/:id', component: () => import('./pages/Round.vue'), props: true, meta: { title: 'Round' } },
    { path: '/trays', component: () => import('./pages/Trays.vue'), meta: { title: 'Trays' } },
    { path: '/trays/:id', component: () => import('./pages/Tray.vue'), props: true, meta: { title: 'Tray' } },
    { path: '/adapters', component: () => import('./pages/Adapters.vue'), meta: { title: 'Adapters' } },
    { path: '/benches', component: () => import('./pages/Benches.vue'), meta: { title: 'Benches' } },
    { path: '/people', component: () => import('./pages/People.vue'), meta: { title: 'Team' } },
    { path: '/let-in', component: () => import('./pages/LetIn.vue'), meta: { title: 'Let a machine in' } },
    { path: '/audit', component: () => import('./pages/Audit.vue'), meta: { title: 'What was done' } },
    { path: '/seconds/:number', component: () => import('./pages/Second.vue'), props: true, meta: { title: 'Leave' } },
    { path: '/begin/:bench/:link', component: () => import('./pages/Work.vue'), props: true, meta: { title: 'Run' } },
    { path: '/begin/:bench/:link/:slot', component: () => import('./pages/Work.vue'), props: true, meta: { title: 'Run' } },
    { path: '/rehearse/:unit', component: () => import('./pages/Rehearse.vue'), props: true, meta: { title: 'Rehearsal' } },
    { path: '/runs', component: () => import('./pages/Runs.vue'), meta: { title: 'Runs' } },
    { path: '/runs/:id', component: () => import('./pages/Run.vue'), props: true, meta: { title: 'Run' } },
    { path: '/:rest(.*)*', component: () => import('./pages/Nowhere.vue'), meta: { title: 'Not found' } },
  ],
})

router.beforeEach(async (to) => {
  if (to.meta.open) return true
  if (await session.load()) return true
  return { path: '/sign-in', query: { to: to.fullPath } }
})

router.afterEach((to) => {
  document.title = [to.meta.title ?? '', 'Zealous Ferry'].join(' · ')
})
