<script setup lang="ts">
// Every fault code of every module through a round, one column for each time that the
// modules were asked.
import { mdiCheckCircle, mdiCircle, mdiHelpCircleOutline, mdiMinus } from '@mdi/js'

import type { CodeLine, Round } from '../api/client'
import { clock, codeStands, say, sentence } from '../words'

defineProps<{ lines: CodeLine[]; notes: Round['notes'] }>()
const wants = (l: CodeLine) => ['new', 'back', 'not-known'].includes(l.stands)
</script>

<template>
  <p v-if="!lines.length" class="none"><v-icon :icon="mdiCheckCircle" class="teal" size="22" /> No module has told of a fault.</p>
  <table v-else class="plain stack">
    <thead>
      <tr><th>Code</th><th v-for="n in notes" :key="n.as">{{ n.title }}<div>{{ clock(n.at, false) }}</div></th><th>Stands</th></tr>
    </thead>
    <tbody>
      <tr v-for="l in lines" :key="l.slot + l.code" :data-line="`${l.slot}:${l.code}`">
        <td><strong class="mono">{{ l.code }}</strong><div class="small">{{ l.title }}: {{ l.says || 'no text in the sheet' }}</div><details v-if="l.recorded" class="small muted" data-recorded><summary>{{ l.recalled?.text || 'recorded with it' }}</summary><span class="mono">{{ [l.recorded.snapshot && say('snapshot {1}', l.recorded.snapshot), l.recorded.extended && say('extended {1}', l.recorded.extended)].filter(Boolean).join(', ') }}</span></details></td>
        <td v-for="(s, i) in l.seen" :key="s.as" :data-label="notes[i]?.title" class="small">
          <v-icon :icon="!s.known ? mdiHelpCircleOutline : s.there ? mdiCircle : mdiMinus" size="16" :class="{ brick: s.there }" />
          {{ !s.known ? 'not known' : s.there ? (s.is ?? []).join(', ') || 'there' : 'not there' }}
        </td>
        <td data-label="stands"><strong :class="{ brick: wants(l) }">{{ codeStands[l.stands] }}</strong><div v-if="l.ours" class="small">{{ sentence(l.ours.text) }}</div></td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
summary { cursor: pointer; min-height: 24px; }
.none { display: flex; gap: 8px; align-items: center; padding: 10px 0; }
th div { font-weight: 400; }
td .v-icon { vertical-align: -2px; }
</style>
