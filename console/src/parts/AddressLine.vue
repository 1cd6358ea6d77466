<script setup lang="ts">
// Addresses as a line: what a file or a release holds, over the regions of a
// memory where one is given. Empty stretches that are long are cut short.
import { computed } from 'vue'

import type { Region } from '../api/client'
import { grouped, hex, kib, listed, say } from '../words'

interface Stretch { address: number; length: number; name?: string }
const props = defineProps<{ segments: Stretch[]; regions?: Region[]; start?: number | null }>()

interface Piece { from: number; to: number; width: number; seg: Stretch | null; region: string; cut: boolean }

const pieces = computed<Piece[]>(() => {
  const edges = new Set<number>()
  for (const s of props.segments) edges.add(s.address).add(s.address + s.length)
  for (const r of props.regions ?? []) edges.add(r.address).add(r.address + r.length)
  const at = [...edges].sort((a, b) => a - b)
  const total = props.segments.reduce((n, s) => n + s.length, 0) || 1
  const all: Piece[] = []
  for (let i = 1; i < at.length; i++) {
    const from = at[i - 1]!
    const to = at[i]!
    const seg = props.segments.find((s) => s.address <= from && to <= s.address + s.length) ?? null
    const region = props.regions?.find((r) => r.address <= from && to <= r.address + r.length)?.name ?? ''
    const cut = !seg && to - from > total
    all.push({ from, to, seg, region, cut, width: cut ? total / 6 : to - from })
  }
  const sum = all.reduce((n, p) => n + p.width, 0) || 1
  for (const p of all) p.width = Math.max(0.6, (100 * p.width) / sum)
  return all
})
const holds = (p: Piece) => (p.seg ? (p.seg.name ?? 'in the file') : 'nothing')
const label = (p: Piece) => listed(say('{1} to {2}, {3}: {4}', hex(p.from), hex(p.to - 1), p.to - p.from >= 4096 ? kib(p.to - p.from) : say('{1} bytes', grouped(p.to - p.from)), holds(p)), p.region && say('region {1}', p.region))
const has = computed(() => (props.regions?.length ?? 0) > 0)
</script>

<template>
  <figure class="line" role="group" aria-label="Addresses">
    <div class="track">
      <span v-for="p in pieces" :key="p.from" class="piece" :class="{ full: p.seg, cut: p.cut, bare: has && !p.region }" :style="{ width: p.width + '%' }" role="img" tabindex="0" :aria-label="label(p)" :title="label(p)">
        <i v-if="start != null && p.from <= start && start < p.to" class="start" :style="{ left: (100 * (start - p.from)) / (p.to - p.from) + '%' }" />
      </span>
    </div>
    <div v-if="has" class="names small muted" aria-hidden="true"><span v-for="(p, i) in pieces" :key="p.from" :style="{ width: p.width + '%' }">{{ p.width > 4 && pieces[i - 1]?.region !== p.region ? p.region : '' }}</span></div>
    <div class="ends small mono"><span>{{ hex(pieces[0]?.from ?? 0) }}</span><span>{{ hex((pieces[pieces.length - 1]?.to ?? 1) - 1) }}</span></div>
  </figure>
</template>

<style scoped>
.track { display: flex; height: 44px; gap: 1px; }
.piece { position: relative; background: rgb(var(--v-theme-surface)); border: 1px solid var(--outline); min-width: 3px; }
.piece.full { background: rgb(var(--v-theme-sec-written)); border-color: rgb(var(--v-theme-sec-written)); }
.piece.full.bare { background: rgb(var(--v-theme-error)); border-color: rgb(var(--v-theme-error)); }
.piece.cut { background: repeating-linear-gradient(115deg, rgb(var(--v-theme-surface)) 0 6px, var(--line) 6px 7px); }
.piece:focus-visible { outline-offset: 1px; z-index: 1; }
.start { position: absolute; top: -8px; width: 0; height: 0; margin-left: -6px; border: 6px solid transparent; border-top-color: var(--ink); border-bottom: 0; }
.names { display: flex; gap: 1px; }
.names span { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.ends { display: flex; justify-content: space-between; }
</style>
