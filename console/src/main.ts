import '@fontsource-variable/public-sans'
import '@fontsource-variable/jetbrains-mono'
import 'vuetify/styles'
import './look/base.css'
import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'
import App from './App.vue'
import { ledger } from './look/ledger'
import { dark, light } from './look/theme'
import { i18n, speak } from './words'

const nonce = document.querySelector<HTMLMetaElement>('meta[name=passeur-nonce]')?.content
const kept = localStorage.getItem('passeur-colours')
const wantsDark = kept ? kept === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches
const lang = localStorage.getItem('passeur-language') ?? (navigator.language.startsWith('fr') ? 'fr' : 'en')
speak(lang === 'fr' ? 'fr' : 'en')

const vuetify = createVuetify({
  theme: { defaultTheme: wantsDark ? 'dark' : 'light', themes: { light, dark }, cspNonce: nonce },
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  defaults: {
    VTextField: { variant: 'outlined', density: 'compact', hideDetails: true },
    VSelect: { variant: 'outlined', density: 'compact', hideDetails: true },
    VBtn: { variant: 'flat', density: 'comfortable', rounded: 2 },
  },
})

const router = createRouter({
  history: createWebHistory('/console/'),
  routes: [
    { path: '/', redirect: '/crossings' },
    { path: '/gates', component: () => import('./pages/Gates.vue') },
    { path: '/crossings', component: () => import('./pages/Crossings.vue') },
    { path: '/crossings/:id', component: () => import('./pages/Crossing.vue'), props: true },
    { path: '/editions', component: () => import('./pages/Editions.vue') },
    { path: '/editions/draft', component: () => import('./pages/DraftPage.vue') },
    { path: '/editions/:number(\\d+)', component: () => import('./pages/Edition.vue'), props: true },
    { path: '/providers', component: () => import('./pages/Providers.vue') },
    { path: '/handover', component: () => import('./pages/Handover.vue') },
    { path: '/trials/entrance/:id', component: () => import('./pages/EntranceTrialPage.vue'), props: true },
    { path: '/trials/:id', component: () => import('./pages/TrialPage.vue'), props: true },
    { path: '/secrets', component: () => import('./pages/Secrets.vue') },
    { path: '/acts', component: () => import('./pages/Acts.vue') },
    { path: '/kerberos', component: () => import('./pages/Kerberos.vue') },
    { path: '/survey', component: () => import('./pages/Survey.vue') },
    { path: '/people/:provider/:subject', component: () => import('./pages/Person.vue'), props: true },
    { path: '/leavers', component: () => import('./pages/Leavers.vue') },
    { path: '/sessions', component: () => import('./pages/Sessions.vue') },
    { path: '/present', component: () => import('./pages/Present.vue') },
    { path: '/:rest(.*)', redirect: '/crossings' },
  ],
})

createApp(App).directive('ledger', ledger).use(vuetify).use(router).use(i18n).mount('#app')
