<script setup lang="ts">
// How a run went on a twin of the unit: nothing was touched.
import { mdiCheckCircle, mdiCloseCircle, mdiHandBackRight, mdiHelpCircle } from '@mdi/js'
import { computed } from 'vue'

import type { Rehearsal } from '../api/client'
import { outcomes, settingWays } from '../api/names'
import { cap, kib, lasts, say, sentence } from '../words'
import Says from './Says.vue'

const props = defineProps<{ rehearsal: Rehearsal }>()
const r = computed(() => props.rehearsal.result)
const kept = computed(() => (r.value?.settings ?? []).map((x) => `${x.n} ${settingWays[x.how] ?? x.how}`).join(', '))
</script>

<template>
  <section class="rehearsal" data-rehearsal aria-live="polite">
    <h2 v-if="r">
      <v-icon :icon="rehearsal.well ? mdiCheckCircle : mdiCloseCircle" :class="rehearsal.well ? 'teal' : 'brick'" /> {{ rehearsal.well && r.outcome !== 'nothing-to-do' ? 'Rehearsed on its twin: it ends right' : say('Rehearsed on its twin: {1}', outcomes[r.outcome]) }}</h2>
    <p v-if="r && !rehearsal.well" class="brick">{{ sentence(r.reason ?? '') }}</p>
    <dl v-if="r">
      <dt>Changes</dt><dd>{{ say('{1} pieces, {2} written', r.pieces, kib(r.moved.written)) }}</dd>
      <template v-if="r.version"><dt>Afterwards</dt><dd><Says text="its program says that it is {1}"><template #1><strong class="mono">{{ r.version }}</strong></template></Says></dd></template>
      <dt>The line</dt><dd>{{ say('{1} at its best pace, of which {2} hands off; hands come on top', lasts(r.line), lasts(r.handsOff)) }}</dd>
      <template v-if="kept"><dt>Settings</dt><dd>{{ kept }}</dd></template>
      <dt>Lost</dt>
      <dd v-if="!r.lost.length">nothing beside the program that was there</dd>
      <dd v-else><div v-for="l in r.lost" :key="l.what + l.name"><strong class="brick">{{ cap(l.what) }} {{ l.name }}</strong>: {{ sentence(l.why.text) }}</div></dd>
      <template v-if="r.asked.length"><dt>Asked</dt><dd><ol><li v-for="q in r.asked" :key="q.item"><v-icon :icon="mdiHandBackRight" size="16" /> {{ q.says }}</li></ol></dd></template>
      <template v-if="r.assumed.length"><dt><v-icon :icon="mdiHelpCircle" size="16" /> Not known</dt><dd>{{ r.assumed.map((a) => sentence(a.text)).join(' ') }}</dd></template>
    </dl>
    <p class="small muted">{{ rehearsal.from ? say('The twin is made of the backup that ran {1}. The unit has heard nothing of it.', rehearsal.from) : 'The twin is made of a backup, and nobody knows what it ran. The unit has heard nothing of it.' }}</p>
  </section>
</template>

<style scoped>
.rehearsal { border: 1px solid var(--line); border-radius: 6px; padding: 12px 16px; margin: 12px 0; background: rgb(var(--v-theme-surface)); }
h2 { display: flex; gap: 8px; align-items: center; }
dl { display: grid; grid-template-columns: 6.5em minmax(0, 1fr); gap: 4px 12px; margin: 8px 0; }
dt { color: var(--muted); }
ol { list-style: none; padding: 0; }
@media (max-width: 600px) { dl { grid-template-columns: minmax(0, 1fr); } dd { margin-bottom: 8px; } }
</style>
