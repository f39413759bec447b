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
      props: true,
      component: () => import('@/pages/recording/RecordingLayout.vue'),
      children: [
        { path: '', name: 'recording', props: true, component: () => import('@/pages/recording/RecordingPage.vue') },
        { path: 'findings', name: 'findings', props: true, component: () => import('@/pages/findings/FindingsPage.vue') },
        { path: 'findings/:finding', name: 'finding', props: true, component: () => import('@/pages/finding/FindingPage.vue') },
        { path: 'sharing', name: 'sharing', props: true, component: () => import('@/pages/sharing/SharingPage.vue') },
        { path: 'scopes', name: 'scopes', props: true, component: () => import('@/pages/scopes/ScopesPage.vue') },
        { path: 'scopes/:scope', name: 'scope', props: true, component: () => import('@/pages/scopes/ScopePage.vue') },
        { path: 'registrations', name: 'registrations', props: true, component: () => import('@/pages/registrations/RegistrationsPage.vue') },
        { path: 'disposal', name: 'disposal', props: true, component: () => import('@/pages/disposal/DisposalPage.vue') },
        { path: 'keys', name: 'keys', props: true, component: () => import('@/pages/keys/KeysPage.vue') },
        { path: 'layers', name: 'layers', props: true, component: () => import('@/pages/layers/LayersPage.vue') },
        { path: 'costs', name: 'costs', props: true, component: () => import('@/pages/costs/CostsPage.vue') },
        { path: 'whatif', name: 'whatif', props: true, component: () => import('@/pages/whatif/WhatIfPage.vue') },
        { path: 'contract', name: 'contract', props: true, component: () => import('@/pages/contract/ContractPage.vue') },
        { path: 'instances/:instance', name: 'instance', props: true, component: () => import('@/pages/instance/InstancePage.vue') },
      ],
    },
    { path: '/compare', name: 'compare', component: () => import('@/pages/compare/ComparePage.vue') },
    { path: '/record', name: 'record', component: () => import('@/pages/record/RecordPage.vue') },
    { path: '/services', name: 'services', component: () => import('@/pages/services/ServicesPage.vue') },
    { path: '/settings', name: 'settings', component: () => import('@/pages/settings/SettingsPage.vue') },
    { path: '/sign-in', name: 'sign-in', component: () => import('@/pages/SignInPage.vue') },
    { path: '/:anything(.*)*', name: 'nowhere', component: () => import('@/pages/NowherePage.vue') },
  ],
})

onUnauthorized(() => {
  const now = router.currentRoute.value
  if (now.name !== 'sign-in') void router.push({ name: 'sign-in', query: { next: now.fullPath } })
})
