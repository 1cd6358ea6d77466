<script setup lang="ts">
// Everything that would stop a run, before anybody moves a hand.
import { mdiCloseOctagon } from '@mdi/js'

import type { Bar } from '../api/client'
import NextSteps from './NextSteps.vue'

defineProps<{ bars: Bar[] }>()
// What is done on a page, or by hand; what only the command line does helps nobody here.
const here = (b: Bar) => (b.steps ?? []).filter((s) => s.page || !s.verb)
</script>

<template>
  <ul class="bars" aria-label="What stops it" data-bars>
    <li v-for="b in bars" :key="b.rule + b.text">
      <v-icon :icon="mdiCloseOctagon" class="brick" size="22" />
      <span><strong>{{ b.text }}</strong><NextSteps v-if="here(b).length" :todo="{ steps: here(b) }" class="small" /><span class="small muted next">{{ b.gate ? 'A lead may pass this by name, with a reason.' : b.who === 'a lead' ? 'Ask a lead.' : '' }}</span></span>
    </li>
  </ul>
</template>

<style scoped>
.bars { list-style: none; display: grid; gap: 10px; }
.bars li { display: grid; grid-template-columns: 26px 1fr; gap: 6px; font-size: 15px; }
.next { display: block; }
</style>
