<script setup lang="ts">
import { mdiCheckCircle, mdiCloseCircle, mdiHelpCircle } from '@mdi/js'

import { verdicts } from '../words'

defineProps<{ verdict: string }>()
const icons: Record<string, string> = { fits: mdiCheckCircle, 'does-not-fit': mdiCloseCircle, 'cannot-tell': mdiHelpCircle }
</script>

<template>
  <span class="verdict" :class="verdict"><v-icon :icon="icons[verdict]" size="20" /> {{ verdicts[verdict] }}</span>
</template>

<style scoped>
.verdict { display: inline-flex; align-items: center; gap: 6px; padding: 2px 10px; border-radius: 4px; border: 1.5px solid; font-weight: 700; white-space: nowrap; }
.fits { background: rgb(var(--v-theme-tint-teal)); border-color: rgb(var(--v-theme-secondary)); color: rgb(var(--v-theme-secondary)); }
.does-not-fit { border-color: var(--line); color: rgb(var(--v-theme-error)); }
.cannot-tell { border: 2px dashed var(--ink); }
</style>
