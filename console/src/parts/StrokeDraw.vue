<script setup lang="ts">
// A small drawing of what a person sees, out of the model sheet.
import type { Stroke } from '../api/client'

defineProps<{ strokes: Stroke[]; says: string }>()
</script>

<template>
  <svg class="draw" viewBox="0 0 136 94" role="img" :aria-label="says">
    <template v-for="(s, i) in strokes" :key="i">
      <rect v-if="s.shape === 'rect'" :x="s.x" :y="s.y" :width="s.w" :height="s.h" rx="2" :class="[s.fill, { dashed: s.dashed }]" />
      <circle v-else-if="s.shape === 'circle'" :cx="s.x" :cy="s.y" :r="s.r" :class="[s.fill, { dashed: s.dashed }]" />
      <line v-else-if="s.shape === 'line'" :x1="s.x" :y1="s.y" :x2="s.x + (s.w ?? 0)" :y2="s.y + (s.h ?? 0)" :class="{ dashed: s.dashed }" />
      <text v-else :x="s.x" :y="s.y" text-anchor="middle">{{ s.text }}</text>
    </template>
  </svg>
</template>

<style scoped>
.draw { width: 136px; height: 94px; flex: none; }
rect, circle, line { stroke: var(--ink); stroke-width: 1.5; fill: none; }
.part { fill: rgb(var(--v-theme-tint-teal)); }
.sand { fill: rgb(var(--v-theme-surface-light)); }
.ink { fill: var(--ink); }
.dashed { stroke-dasharray: 4 3; }
text { font: 700 13px var(--mono); fill: var(--ink); }
</style>
