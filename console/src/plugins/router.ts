import { createRouter, createWebHistory } from 'vue-router'

import { onUnauthorized } from '@/api/client'
import RecordingsPage from '@/pages/recordings/RecordingsPage.vue'

export const router = createRouter({
  history: createWebHistory(),
  scrollBehavior: (_to, from, saved) => saved ?? (_to.path === from.path ? undefined : { top: 0 }),
  routes: [
    { path: '/', redirect: '/recordings' },
    { path: '/recordings', name: 'recordings', component: RecordingsPage },
    {
      path: '/recordings/:recording',
      name: 'recording',
      props: true,
      component: () => import('@/pages/recording/RecordingPage.vue'),
    },
    {
      path: '/recordings/:recording/findings/:finding',
      name: 'finding',
      props: true,
      component: () => import('@/pages/finding/FindingPage.vue'),
    },
    { path: '/sign-in', name: 'sign-in', component: () => import('@/pages/SignInPage.vue') },
    { path: '/:anything(.*)*', name: 'nowhere', component: () => import('@/pages/NowherePage.vue') },
  ],
})

onUnauthorized(() => {
  const now = router.currentRoute.value
  if (now.name !== 'sign-in') void router.push({ name: 'sign-in', query: { next: now.fullPath } })
})
