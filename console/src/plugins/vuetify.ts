import 'vuetify/styles'

import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

// Colour is kept for severity and for links; everything else is shades of slate.
// Labels are read on the page's own ground too.
const variables = { 'medium-emphasis-opacity': 0.78 }

const light = {
  dark: false,
  variables,
  colors: {
    background: '#f5f6f7',
    surface: '#ffffff',
    primary: '#274654',
    link: '#1b5e80',
    error: '#b3261e',
    warning: '#8a5a00',
    note: '#3d5a80',
    band: '#274654',
    life: '#46606e',
  },
}

const dark = {
  dark: true,
  variables,
  colors: {
    background: '#12181c',
    surface: '#1a2227',
    primary: '#9fc3d3',
    link: '#8cc8e8',
    error: '#ff8a80',
    warning: '#f2c14e',
    note: '#9db8dd',
    band: '#9fc3d3',
    life: '#a9bcc6',
  },
}

export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: { defaultTheme: 'system', themes: { light, dark } },
  defaults: {
    VCard: { variant: 'flat', border: true, rounded: 'lg' },
    VBtn: { variant: 'text', class: 'text-none', size: 'small' },
    VTable: { density: 'compact' },
    VChip: { size: 'small', label: true, variant: 'tonal' },
    VAlert: { variant: 'tonal', border: 'start' },
  },
})
