<script setup lang="ts">
// The one thing to know or to do next, full width, always at the same place.
import { mdiCircleOffOutline, mdiClockOutline, mdiHandBackRight, mdiAlertOctagon } from '@mdi/js'
import { computed } from 'vue'

import { minutes } from '../words'

const props = defineProps<{
  board: 'hands-off' | 'hands-on' | 'reading' | 'waiting' | 'stopped' | 'ended' | 'unproven'
  head: string
  sentence: string
  seconds?: number // until the unit may be touched; negative if not known
  share?: number // of that time still left, 1 to 0
  under?: string
}>()

const field = computed(() => ({ 'hands-off': 'bg-hands-off', 'hands-on': 'bg-hands-on', stopped: 'bg-stop', unproven: 'quiet unproven' })[props.board as string] ?? 'quiet')
const polite = computed(() => (props.board === 'hands-on' || props.board === 'stopped' ? 'assertive' : 'polite'))
</script>

<template>
  <section class="board" :class="[field, board]" role="region" aria-label="What to do now" data-board>
    <div class="out" :aria-live="polite">{{ /[.?!]$/.test(head) ? head : `${head}.` }} {{ sentence }}</div>
    <div class="inside">
      <svg v-if="board === 'hands-off'" class="sign" viewBox="0 0 120 110" aria-hidden="true">
        <path class="palm" transform="translate(20 0) scale(3.4)" :d="mdiHandBackRight" />
        <rect class="white" x="0" y="70" width="120" height="26" rx="4" />
        <path class="red" d="M8 70h18L14 96H0v-8zM44 70h18L50 96H32zM80 70h18L86 96H68zM116 70h4v14l-6 12h-10z" />
      </svg>
      <v-icon v-else-if="board === 'hands-on'" :icon="mdiHandBackRight" size="96" />
      <v-icon v-else-if="board === 'stopped'" :icon="mdiAlertOctagon" size="80" />
      <v-icon v-else-if="board === 'unproven'" :icon="mdiCircleOffOutline" size="44" />
      <v-icon v-else-if="board !== 'ended'" :icon="mdiClockOutline" size="44" />
      <div class="words">
        <div class="head">{{ head }}</div>
        <p class="sentence">{{ sentence }}</p>
        <slot />
      </div>
      <div v-if="board === 'hands-off'" class="time counts">
        <div class="head">{{ seconds !== undefined && seconds >= 0 ? minutes(seconds) : '…' }}</div>
        <p class="sentence">{{ seconds !== undefined && seconds >= 0 ? 'until you may touch it' : 'longer than usual, still alive' }}</p>
      </div>
    </div>
    <div v-if="board === 'hands-off'" class="boom">
      <span class="under">{{ under }}</span>
      <div class="bar" :style="{ width: `${Math.max(2, (share ?? 1) * 100)}%` }" />
    </div>
  </section>
</template>

<style scoped>
.board { position: sticky; top: 56px; z-index: 5; }
.board.stopped { position: static; } /* nothing moves any longer: what stands below it is to be read */
@media (max-width: 600px) { .board.hands-on { position: static; } }
.quiet { background: rgb(var(--v-theme-surface)); border-left: 8px solid rgb(var(--v-theme-secondary)); border-bottom: 1px solid var(--line); }
.inside { display: flex; align-items: center; gap: 24px; max-width: 1400px; margin: 0 auto; padding: 16px 24px; min-height: 140px; }
.hands-off .inside { padding-bottom: 4px; }
.unproven { border-left: 8px dashed var(--outline); }
.quiet .inside { min-height: 96px; padding-bottom: 24px; }
.sign { width: 120px; flex: none; }
.palm { fill: currentColor; }
.white { fill: rgb(var(--v-theme-boom-white)); }
.red { fill: rgb(var(--v-theme-boom-red)); }
.words { flex: 1; min-width: 0; }
.head { font-weight: 700; font-size: 32px; line-height: 1.2; }
.sentence { font-size: 18px; max-width: 75ch; }
.hands-off .head { font-size: 92px; line-height: 0.95; }
.hands-off .sentence { font-size: 22px; margin-top: 8px; }
.hands-on .head { font-size: 56px; line-height: 1.05; }
.time { text-align: right; white-space: nowrap; }
.boom { position: relative; height: 62px; max-width: 1400px; margin: 0 auto; padding: 0 24px; }
.under { position: absolute; left: 24px; top: 0; font-size: 18px; }
.boom::before { content: ''; position: absolute; left: 24px; right: 24px; top: 49px; border-top: 3px solid rgb(var(--v-theme-hands-off-soft)); }
.bar { position: absolute; right: 24px; top: 28px; height: 24px; max-width: calc(100% - 48px); border-right: 14px solid rgb(var(--v-theme-boom-white)); transition: width 1s linear;
  background: repeating-linear-gradient(115deg, rgb(var(--v-theme-boom-red)) 0 32px, rgb(var(--v-theme-boom-white)) 32px 64px); }
@media (max-width: 900px) {
  .hands-off .head { font-size: 52px; }
  .hands-off .sentence { font-size: 18px; }
  .sign { width: 72px; }
}
@media (max-width: 600px) {
  .inside { flex-wrap: wrap; gap: 12px; padding: 16px; min-height: 0; }
  .hands-off .head { font-size: 43px; white-space: nowrap; }
  .hands-on .head { font-size: 32px; }
  .hands-on .inside > .v-icon { display: none; }
  .sign { display: none; }
  .time { text-align: left; width: 100%; }
  .words { min-width: 200px; }
}
@media (prefers-reduced-motion: reduce) { .bar { transition: none; } }
</style>
