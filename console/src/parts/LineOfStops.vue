<script setup lang="ts">
// The order of the work as a ferry line. A round stop the tool does by itself; at
// a square one a person acts. Dashed is what is still ahead.
import { mdiCheck, mdiHandBackRight } from '@mdi/js'
import { computed } from 'vue'

import type { Stop } from './stops'

const props = defineProps<{ stops: Stop[]; ride?: number }>() // ride: 0 to 1 from the present stop to the next

const now = computed(() => props.stops.findIndex((s) => s.state === 'now'))
const reached = computed(() => {
  if (now.value < 0) return props.stops.every((s) => s.state === 'done') ? 1 : 0
  const ride = props.ride ? 0.2 + 0.65 * Math.min(1, props.ride) : 0 // between the two stops, not on them
  return Math.min(1, (now.value + ride) / (props.stops.length - 1))
})
const half = computed(() => 100 / props.stops.length / 2)
const at = (share: number) => `${half.value + share * (100 - 2 * half.value)}%`
</script>

<template>
  <nav class="line" aria-label="Order of the work">
    <div class="way to-come" :style="{ left: `${half}%`, right: `${half}%` }" />
    <div class="way gone" :style="{ left: `${half}%`, width: `calc(${at(reached)} - ${half}%)` }" />
    <svg v-if="now >= 0 && (ride ?? 0) > 0" class="boat" viewBox="0 0 44 28" width="44" height="28" :style="{ left: at(reached) }" aria-hidden="true">
      <path class="hull" d="M0 16h44l-8 11H7zM9 9h20v6H9zM13 3h12v5H13z" /><path class="funnel" d="M31 2h6v13h-6z" />
    </svg>
    <ol>
      <li v-for="(s, i) in stops" :key="s.key" :class="[s.state, { hand: s.hand }]" :aria-current="s.state === 'now' ? 'step' : undefined">
        <span class="stop">
          <v-icon v-if="s.state === 'done'" :icon="mdiCheck" size="22" />
          <v-icon v-else-if="s.hand" :icon="mdiHandBackRight" size="20" />
          <template v-else>{{ i + 1 }}</template>
        </span>
        <span class="word">{{ s.word }}<span class="out">: {{ s.state === 'done' ? 'done' : s.state === 'now' ? 'now' : 'still ahead' }}</span></span>
        <span class="fact small">{{ s.fact }}</span>
      </li>
    </ol>
  </nav>
</template>

<style scoped>
.line { position: relative; padding: 8px 0 8px; max-width: 1400px; margin: 0 auto; }
ol { list-style: none; display: flex; position: relative; }
li { flex: 1; display: flex; flex-direction: column; align-items: center; text-align: center; min-width: 0; }
.way { position: absolute; top: 24px; height: 0; }
.to-come { border-top: 4px dashed var(--outline); }
.gone { border-top: 5px solid var(--ink); margin-top: -0.5px; }
.boat { position: absolute; top: 0; transform: translateX(-50%); z-index: 2; transition: left 1s linear; }
.hull { fill: var(--ink); }
.funnel { fill: rgb(var(--v-theme-warning)); }
.stop { width: 36px; height: 36px; display: grid; place-items: center; border-radius: 50%; font-weight: 700; background: rgb(var(--v-theme-background)); border: 2px solid var(--outline); color: var(--muted); }
.hand .stop { border-radius: 6px; }
.done .stop, .now .stop { background: var(--ink); border-color: var(--ink); color: rgb(var(--v-theme-background)); }
.now .stop { outline: 3px solid var(--ink); outline-offset: 3px; }
.now.hand .stop { background: rgb(var(--v-theme-hands-on)); color: rgb(var(--v-theme-on-hands-on)); }
.word { margin-top: 4px; }
.now .word { font-weight: 700; font-size: 18px; line-height: 24px; }
.fact { color: var(--muted); overflow: hidden; text-overflow: ellipsis; white-space: nowrap; max-width: 100%; }
.now .fact { color: inherit; }
@media (max-width: 700px) {
  li:not(.now) .word, .fact { display: none; }
  .now .word { white-space: nowrap; font-size: 16px; }
  .stop { width: 30px; height: 30px; }
  .way { top: 21px; }
  .boat { display: none; }
}
@media (prefers-reduced-motion: reduce) { .boat { transition: none; } }
</style>
