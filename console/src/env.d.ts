/// <reference types="vite/client" />
declare module 'vuetify/styles/core'
declare module 'vuetify/styles/colors'
declare module '@fontsource/*'
