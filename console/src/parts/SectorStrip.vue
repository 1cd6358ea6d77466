<script setup lang="ts">
// Memory as a strip: one cell a sector, colour and pattern together. Above 200
// sectors a cell stands for several and shows the one most worth seeing.
import { computed, ref } from 'vue'

import type { Sector } from '../api/client'
import { hex, kib, say } from '../words'

const props = defineProps<{ sectors: Sector[]; states: string; would?: boolean; rests?: boolean }>()

const words: Record<string, string> = {
  v: 'verified',
  W: 'written',
  w: 'writing now',
  e: 'to erase',
  a: 'right already',
  k: 'kept',
  d: 'differs',
}
// What was being written when the run was put down, nobody knows until it is read.
const said = (state: string) => (state === 'w' && props.rests ? 'not known' : words[state]!)
const order = 'dweWavk'
const most = 200

interface Cell {
  state: string
  from: number
  to: number
  bytes: number
  count: number
  region: string
}

const cells = computed<Cell[]>(() => {
  const n = props.sectors.length
  const each = Math.max(1, Math.ceil(n / most))
  const all: Cell[] = []
  for (let i = 0; i < n; ) {
    const first = props.sectors[i]!
    let j = i
    let state = 'k'
    let bytes = 0
    while (j < n && j - i < each && props.sectors[j]!.region === first.region) {
      const s = props.states[j] ?? 'k'
      if (j === i || order.indexOf(s) < order.indexOf(state)) state = s
      bytes += props.sectors[j]!.length
      j++
    }
    all.push({ state, from: first.address, to: first.address + bytes - 1, bytes, count: j - i, region: first.region })
    i = j
  }
  return all
})

interface Span {
  name: string
  cells: number
  note: string
}

const regions = computed<Span[]>(() => {
  const all: (Span & { from: number; to: number; bytes: number })[] = []
  for (const c of cells.value) {
    const last = all[all.length - 1]
    if (last && last.name === c.region) {
      last.cells++
      last.to = c.to
      last.bytes += c.bytes
    } else all.push({ name: c.region, cells: 1, note: '', from: c.from, to: c.to, bytes: c.bytes })
  }
  const total = cells.value.length
  const out: Span[] = []
  for (const r of all) {
    if (r.cells / total > 0.3) r.note = say('{1} to {2}, {3}', hex(r.from), hex(r.to), kib(r.bytes))
    const last = out[out.length - 1]
    if (last && r.cells / total < 0.06 && last.cells / total < 0.06) {
      last.name += `, ${r.name}`
      last.cells += r.cells
    } else out.push({ ...r })
  }
  return out
})

const legend = computed(() =>
  ['v', 'W', 'w', 'e', 'a', 'k', 'd']
    .map((s) => ({
      state: s,
      word: s === 'e' && props.would ? 'would be erased and written' : said(s),
      count: [...props.states].filter((x) => x === s).length,
      bytes: props.sectors.reduce((n, x, i) => n + (props.states[i] === s ? x.length : 0), 0),
    }))
    .filter((x) => x.count > 0),
)

const active = ref(0)
const box = ref<HTMLElement | null>(null)
function move(e: KeyboardEvent) {
  const step = { ArrowRight: 1, ArrowLeft: -1, Home: -1e6, End: 1e6 }[e.key]
  if (!step) return
  e.preventDefault()
  active.value = Math.min(cells.value.length - 1, Math.max(0, active.value + step))
  box.value?.querySelectorAll<HTMLElement>('[data-cell]')[active.value]?.focus()
}
const label = (c: Cell) => c.count > 1 ? say('{1} to {2}, {3}, {4}, {5} sectors: {6}', hex(c.from), hex(c.to), c.region, kib(c.bytes), c.count, said(c.state)) : say('{1} to {2}, {3}, {4}: {5}', hex(c.from), hex(c.to), c.region, kib(c.bytes), said(c.state))
</script>

<template>
  <figure class="strip" aria-label="Memory by sectors">
    <div class="regions" :style="{ gridTemplateColumns: `repeat(${cells.length}, minmax(0, 1fr))` }" aria-hidden="true">
      <div v-for="(r, i) in regions" :key="i" class="region" :class="{ last: i === regions.length - 1 && i > 0, pushed: i > 0 && regions[i - 1]!.cells / cells.length < 0.06 }" :style="{ gridColumn: `span ${r.cells}` }">
        <span class="name"><strong>{{ r.name }}</strong> <span class="mono muted note">{{ r.note }}</span></span>
      </div>
    </div>
    <div ref="box" class="cells" :style="{ '--n': cells.length }" role="group" aria-label="Sectors; arrow keys move" @keydown="move">
      <span v-for="(c, i) in cells" :key="c.from" data-cell role="img" class="cell" :class="`s-${c.state}`" :tabindex="i === active ? 0 : -1" :aria-label="label(c)" :title="label(c)" @focus="active = i" />
    </div>
    <figcaption class="legend small">
      <span v-for="l in legend" :key="l.state"><i class="cell" :class="`s-${l.state}`" /><strong class="counts">{{ l.count }}</strong> {{ l.word }} <span class="muted">{{ kib(l.bytes) }}</span></span>
    </figcaption>
  </figure>
</template>

<style scoped>
.regions { display: grid; gap: 1px; }
.region { border: 1.5px solid var(--outline); border-bottom: 0; height: 6px; margin-top: 24px; position: relative; min-width: 0; }
.name { position: absolute; bottom: 7px; left: 0; white-space: nowrap; font-size: 14px; line-height: 1.2; }
.last .name { left: auto; right: 0; }
.pushed:not(.last) .name { left: 12px; }
.note { font-size: 13.5px; }
.cells { display: grid; grid-template-columns: repeat(var(--n), minmax(0, 1fr)); gap: 1px; margin-top: 4px; }
.cell { height: 44px; border-radius: 1px; position: relative; display: block; }
.cell:focus-visible { outline-offset: 1px; z-index: 1; }
.s-v { background: rgb(var(--v-theme-sec-verified)); }
.s-v::after { content: ''; position: absolute; left: 50%; top: 50%; width: 3px; height: 7px; margin: -6px 0 0 -2px; border: solid rgb(var(--v-theme-surface)); border-width: 0 1.5px 1.5px 0; transform: rotate(45deg); }
.s-W { background: rgb(var(--v-theme-sec-written)); }
.s-w { border: 2px solid var(--ink); background: linear-gradient(to top, rgb(var(--v-theme-sec-written)) 50%, rgb(var(--v-theme-surface)) 50%); animation: now 1s infinite alternate; }
.s-e { background: repeating-linear-gradient(115deg, rgb(var(--v-theme-sec-erase)) 0 5px, var(--outline) 5px 6px); border: 1px solid var(--outline); }
.s-a { background: linear-gradient(rgb(var(--v-theme-secondary)), rgb(var(--v-theme-secondary))) center / 100% 2px no-repeat rgb(var(--v-theme-sec-already)); }
.s-k { background: repeating-linear-gradient(90deg, rgb(var(--v-theme-sec-kept)) 0 2px, var(--outline) 2px 3px); }
.s-d { background: rgb(var(--v-theme-error)); }
.s-d::after { content: '×'; position: absolute; inset: 0; display: grid; place-items: center; color: rgb(var(--v-theme-surface)); font-weight: 700; }
.legend { display: flex; flex-wrap: wrap; gap: 6px 28px; margin-top: 10px; font-size: 15px; }
.legend span { display: inline-flex; align-items: center; gap: 6px; }
.legend .cell { display: inline-block; width: 22px; height: 18px; }
@keyframes now { to { opacity: 0.6; } }
@media (max-width: 600px) {
  .cells { grid-template-columns: repeat(calc((var(--n) + 3) / 4), minmax(0, 1fr)); grid-template-columns: repeat(auto-fill, minmax(calc(100% / (var(--n) / 4) - 1px), 1fr)); }
  .cell { height: 28px; }
  .regions { display: none; }
}
@media (prefers-reduced-motion: reduce) { .s-w { animation: none; } }
</style>
