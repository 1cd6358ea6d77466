<script setup lang="ts">
// A unit's history hangs on a drawn chain; a broken chain is drawn with a gap.
import { mdiAccountCheckOutline, mdiAnchor, mdiCheck, mdiCircleOffOutline, mdiClipboardCheckOutline, mdiClose, mdiContentSave, mdiHelp, mdiMinus, mdiPencilOutline, mdiPlus, mdiRestore } from '@mdi/js'

import type { Entry, History } from '../api/client'
import { say, when } from '../words'

defineProps<{ history: History }>()

function mark(e: Entry): [icon: string, kind: string] {
  if (e.kind === 'held') return [mdiAnchor, 'open']
  if (e.kind === 'allowed') return [mdiAccountCheckOutline, 'open']
  if (e.kind === 'tested') return [mdiClipboardCheckOutline, 'open']
  if (e.kind === 'noted' || e.kind === 'corrected' || e.kind === 'joined') return [mdiPencilOutline, 'open']
  if (e.kind === 'entered') return [mdiPlus, 'open']
  if (e.kind === 'refused') return [mdiClose, 'bad']
  if (e.outcome === 'not-proven') return [mdiCircleOffOutline, 'open']
  if (e.outcome === 'nothing-to-do') return [mdiMinus, 'open']
  if (e.outcome === 'done' && e.kind === 'restore') return [mdiRestore, 'back']
  if (e.outcome === 'done' && e.kind === 'backup') return [mdiContentSave, 'open']
  if (e.outcome === 'done') return [mdiCheck, 'full']
  if (e.outcome) return [mdiClose, 'bad']
  return [mdiHelp, 'open']
}

function detail(e: Entry): string {
  const parts = []
  if (e.from && e.outcome === 'done' && e.from !== e.to) parts.push(say('from {1}, verified', e.from))
  if (e.reason) parts.push(e.reason)
  if (e.halves && e.halves > 1) parts.push(e.halves === 2 ? 'taken up again once' : say('taken up again {1} times', e.halves - 1))
  if (e.overlap) parts.push('overlaps another run')
  return parts.join('; ')
}
</script>

<template>
  <div>
    <p v-for="f in history.findings" :key="f.text" class="brick"><strong>Chain broken:</strong> {{ f.text }}</p>
    <ol class="chain" :class="{ broken: history.chain !== 'intact' }">
      <li v-for="e in history.entries" :key="e.n">
        <span class="mark" :class="mark(e)[1]"><v-icon :icon="mark(e)[0]" size="18" /></span>
        <div class="what">
          <div class="row spread tight">
            <strong><router-link v-if="e.run" :to="`/runs/${e.run}`">{{ e.title.text }}</router-link><template v-else>{{ e.title.text }}</template></strong>
            <span class="small muted">{{ when(e.at) }}</span>
          </div>
          <div v-if="e.why || e.asked" class="small"><router-link v-if="e.job" :to="`/jobs/${e.job}`">{{ e.why || 'no reason was given' }}</router-link><template v-if="e.asked">, {{ say('asked by {1}', e.asked) }}</template></div>
          <div v-for="t in e.tells ?? []" :key="t.text" class="small">{{ t.text }}</div>
          <div class="small muted">{{ detail(e) }}<template v-if="detail(e) && e.by">. </template>{{ e.by }}</div>
        </div>
      </li>
    </ol>
    <p v-if="history.tree && history.chain === 'intact'" class="small muted" data-tree>{{ say('Proven in the tree of all {1} entries, checkpoint of {2}.', history.tree.size, when(history.tree.at)) }}</p>
  </div>
</template>

<style scoped>
.chain { list-style: none; }
li { display: flex; gap: 12px; position: relative; padding-bottom: 12px; }
li:not(:last-child)::before { content: ''; position: absolute; left: 12px; top: 30px; bottom: 0; width: 6px; border: 2px solid var(--outline); border-radius: 4px; }
.broken li:not(:last-child)::before { border-style: dashed; border-color: rgb(var(--v-theme-error)); }
.mark { flex: none; width: 30px; height: 30px; display: grid; place-items: center; border-radius: 50%; border: 2px solid var(--ink); background: rgb(var(--v-theme-background)); z-index: 1; }
.mark.full { background: var(--ink); color: rgb(var(--v-theme-background)); }
.mark.back { border-color: rgb(var(--v-theme-secondary)); color: rgb(var(--v-theme-secondary)); }
.mark.bad { border-radius: 4px; border-color: rgb(var(--v-theme-error)); color: rgb(var(--v-theme-error)); background: rgb(var(--v-theme-tint-brick)); }
.tight { gap: 0 12px; }
.what { flex: 1; border-bottom: 1px solid var(--line); padding-bottom: 10px; min-width: 0; }
</style>
