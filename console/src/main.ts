import '@fontsource/atkinson-hyperlegible/latin-400.css'
import '@fontsource/atkinson-hyperlegible/latin-700.css'
import '@fontsource/ibm-plex-mono/latin-400.css'
import '@fontsource/ibm-plex-mono/latin-600.css'
import 'vuetify/styles/core'
import 'vuetify/styles/colors'
import './console.css'

import { createApp } from 'vue'
import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

import App from './App.vue'
import { router } from './router'
import { dark, light } from './theme'

const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce
const wanted = localStorage.getItem('light') ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light')

const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: { defaultTheme: wanted, cspNonce: nonce, themes: { light, dark } },
  defaults: {
    global: { ripple: false },
    VBtn: { variant: 'flat', rounded: 'md', height: 48 },
    VCard: { flat: true, border: true, rounded: 'lg' },
    VChip: { variant: 'flat', rounded: 'sm' },
    VTextField: { variant: 'outlined', density: 'comfortable', hideDetails: 'auto' },
    VSelect: { variant: 'outlined', density: 'comfortable', hideDetails: 'auto' },
  },
})

createApp(App).use(vuetify).use(router).mount('#app')
