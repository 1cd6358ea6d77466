<script setup lang="ts">
// What went wrong, in the three lines that a technician reads.
import type { Problem } from '../api/client'
import { cap } from '../words'
import NextSteps from './NextSteps.vue'

defineProps<{ problem: Problem }>()
</script>

<template>
  <v-alert variant="outlined" type="error" class="trouble" role="alert" data-trouble>
    <strong>{{ cap(problem.kind.replaceAll('-', ' ')) }}</strong>
    <p>{{ problem.detail }}</p>
    <p v-if="problem.state"><span class="muted">State of the unit:</span> {{ problem.state }}</p>
    <NextSteps :todo="problem" />
    <slot />
  </v-alert>
</template>

<style scoped>
.trouble { background: rgb(var(--v-theme-surface)); border-width: 2px; }
.trouble p { color: rgb(var(--v-theme-on-surface)); max-width: 75ch; }
</style>
