<script setup lang="ts">
// What a job wants first, held against what the team has.
import { mdiAlertOutline, mdiCheckCircle, mdiCloseCircle, mdiHelpCircle, mdiMinusCircleOutline } from '@mdi/js'

import type { Need } from '../api/client'
import { listed, needStates } from '../words'

defineProps<{ needs: Need[] }>()
function mark(n: Need): [string, string] {
  if (n.state === 'ready') return [mdiCheckCircle, 'teal']
  if (n.state === 'runs-out') return [mdiAlertOutline, 'warn']
  if (n.state === 'cannot-tell') return [mdiHelpCircle, '']
  return n.optional ? [mdiMinusCircleOutline, 'muted'] : [mdiCloseCircle, 'brick']
}
</script>

<template>
  <ul class="rows needs">
    <li v-for="n in needs" :key="n.kind + n.name">
      <v-icon :icon="mark(n)[0]" :class="mark(n)[1]" size="22" />
      <div><strong>{{ n.name }}</strong> <span class="muted">{{ listed(n.kind, n.optional && 'optional') }}</span> <strong class="state" :class="mark(n)[1]">{{ needStates[n.state] }}</strong>
        <div class="small">{{ n.text }} <span class="muted">{{ n.says }}</span></div></div>
    </li>
  </ul>
</template>

<style scoped>
.needs > li { display: grid; grid-template-columns: 28px 1fr; gap: 6px; padding: 8px 0; }
.state { margin-left: 6px; }
.warn { color: rgb(var(--v-theme-warning-ink)); }
</style>
