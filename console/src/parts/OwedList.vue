<script setup lang="ts">
// What a run owes before it may close: a square is a person's, a round mark the tool's.
import { mdiCheck, mdiHandBackRight, mdiLockOpenVariant, mdiTuneVariant } from '@mdi/js'

import type { Obligation } from '../api/client'
import { say, when } from '../words'

defineProps<{ owed: Obligation[]; closed?: boolean }>()

const icons: Record<string, string> = { lock: mdiLockOpenVariant, settings: mdiTuneVariant }
const tool = (o: Obligation) => o.kind === 'lock' || o.kind === 'settings'
</script>

<template>
  <div data-owed>
    <h3 class="muted head">{{ closed ? 'Stays with the unit' : 'Owed before this run may close' }}</h3>
    <ul class="rows small">
      <li v-for="o in owed" :key="`${o.kind}${o.section}${o.item}`" class="one">
        <span class="sign" :class="{ square: !tool(o) }"><v-icon :icon="icons[o.kind] ?? mdiHandBackRight" size="18" /></span>
        <span><strong>{{ o.says }}</strong> <span class="muted">{{ say('since {1}', when(new Date(o.since / 1000).toISOString())) }}</span><template v-if="o.state === 'excused'"><br />{{ say('Left as it is: {1}', o.reason) }}</template><template v-else-if="o.state === 'handed'"><br />{{ say('{1} answers it by {2}. {3}', o.whose, o.due, o.reason) }}</template></span>
        <span class="muted">{{ o.state === 'excused' ? (o.kind === 'test' ? 'not passed' : 'excused') : o.state === 'handed' ? 'handed on' : tool(o) ? 'by itself' : 'your turn' }}</span>
      </li>
    </ul>
    <p v-if="!owed.length" class="small"><v-icon :icon="mdiCheck" size="18" class="teal" /> Nothing is owed.</p>
  </div>
</template>

<style scoped>
.head { font-size: 15px; margin-top: 16px; }
.one { display: grid; grid-template-columns: 32px 1fr auto; gap: 8px; align-items: start; }
.sign { width: 28px; height: 28px; display: grid; place-items: center; border: 2px solid var(--outline); border-radius: 50%; }
.square { border-radius: 6px; }
</style>
