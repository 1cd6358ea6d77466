<script setup lang="ts">
// Both connectors, counted from pin one, and the wires between them: data lines
// are seen to cross. Drawn from the model sheet; the colours of wires are data.
import { computed, onUnmounted, ref } from 'vue'

import { ago, listed, say } from '../words'

import type { Pin, Supply, Wiring } from '../api/client'
import Says from './Says.vue'

const props = defineProps<{ wiring: Wiring; unit?: string; adapter?: string; supply?: Supply; edit?: boolean; seen?: { by: string; at: string } }>()
const colours = defineModel<Record<string, string>>('colours', { default: () => ({}) }) // of this time, by the unit's pin
const colourOf = (w: { unit: number; colour?: string }) => colours.value[String(w.unit)] ?? w.colour ?? ''
function mark(unit: number, e: Event) {
  colours.value = { ...colours.value, [String(unit)]: (e.target as HTMLInputElement).value }
}
const feeds: Record<string, string> = { adapter: 'the adapter feeds the unit', own: 'its own supply feeds the unit', none: 'nothing may feed the unit' }
const row = 52
const top = 62
// On a narrow screen the drawing has names of pins alone; jobs and reasons stand in
// the table and below it.
const screen = window.matchMedia('(max-width: 600px)')
const narrow = ref(screen.matches)
const turned = () => (narrow.value = screen.matches)
screen.addEventListener('change', turned)
onUnmounted(() => screen.removeEventListener('change', turned))
const wide = computed(() => (narrow.value ? 360 : 980))
const unitX = computed(() => (narrow.value ? 92 : 290))
const toolX = computed(() => (narrow.value ? 268 : 690))
const pill = computed(() => (narrow.value ? 66 : 88))
const y = (n: number) => top + (n - 1) * row
const high = computed(() => top + Math.max(props.wiring.unit.pins.length, props.wiring.tool.pins.length) * row + 6)
const joined = computed(() => new Set(props.wiring.wires.map((w) => w.unit)))
// The colours that leads have; another name is drawn as plain ink and still named.
const wires: Record<string, string> = { black: '#1b1b1b', white: '#f7f7f2', red: '#b3261e', green: '#2e7d32', blue: '#1f5fa8', yellow: '#e3b505', brown: '#6d4c41', grey: '#8a8f94', orange: '#d9730d', violet: '#6a3d9a' }
const lines = computed(() =>
  props.wiring.wires.map((w, n) => {
    const a = y(w.unit)
    const b = y(w.tool)
    const bend = unitX.value + pill.value + (narrow.value ? 22 + n * 6 : 32 + n * 26)
    return { ...w, path: `M${unitX.value + 12} ${a} H${bend} L${bend + (narrow.value ? 34 : 70)} ${b} H${toolX.value - 12}`, colour: colourOf(w), fill: wires[colourOf(w).split(/[ ,]/)[0]!] ?? 'currentColor', crosses: w.unit !== w.tool, at: a }
  }),
)
const empty = computed(() => [...props.wiring.unit.pins.map((p, n) => ({ at: 'unit', n: n + 1, p })).filter((x) => !joined.value.has(x.n)), ...props.wiring.tool.pins.map((p, n) => ({ at: 'adapter', n: n + 1, p })).filter((x) => x.p.job === 'empty')].filter((x) => x.p.says?.en))
const drawn = (p: Pin) => (narrow.value ? p.name : pinName(p))
const pinName = (p?: Pin) => (p ? `${p.name}${p.job !== 'empty' && p.name.toLowerCase() !== p.job ? `, ${p.job}` : ''}` : '')
const crossed = computed(() => props.wiring.wires.some((w) => props.wiring.tool.pins[w.tool - 1]?.job === 'transmit'))
</script>

<template>
  <figure class="wiring">
    <div class="sheet">
      <svg :viewBox="`0 0 ${wide} ${high}`" :class="{ narrow }" role="img" :aria-label="say('Wiring of {1} with {2}; the table below says the same', wiring.unit.name, wiring.adapter)">
        <template v-if="!narrow">
          <text x="12" y="20" class="head">{{ say('This is written: {1}', wiring.unit.name) }} <tspan class="mono">{{ unit }}</tspan></text>
          <text x="968" y="20" class="head" text-anchor="end">{{ say('This writes: {1}', wiring.tool.name) }} <tspan class="mono">{{ adapter }}</tspan></text>
          <text x="12" y="40" class="small">{{ say('pin 1: {1}', wiring.unit.edge.en) }}</text>
          <text x="968" y="40" class="small" text-anchor="end">{{ say('pin 1: {1}', wiring.tool.edge.en) }}</text>
        </template>
        <template v-else>
          <text x="4" y="18" class="head">{{ wiring.unit.name }}</text><text :x="wide - 4" y="18" class="head" text-anchor="end">{{ wiring.tool.name }}</text>
        </template>
        <g v-for="w in lines" :key="`${w.tool}-${w.unit}`">
          <path :d="w.path" class="casing" /><path :d="w.path" class="wire" :style="{ stroke: w.fill }" />
        </g>
        <g v-for="(p, n) in wiring.unit.pins" :key="`u${n}`" :class="{ empty: !joined.has(n + 1) }">
          <rect v-if="n === 0" :x="unitX - 12" :y="y(1) - 12" width="24" height="24" class="pin" /><circle v-else :cx="unitX" :cy="y(n + 1)" r="12" class="pin" />
          <text :x="unitX - 22" :y="y(n + 1) + 2" text-anchor="end" class="name"><tspan class="mono">{{ n + 1 }}</tspan> {{ drawn(p) }}</text>
          <text v-if="!joined.has(n + 1)" :x="unitX - 22" :y="y(n + 1) + 20" text-anchor="end" class="small">{{ say('leave empty{1}', p.says?.en && !narrow ? `: ${p.says.en}` : '') }}</text>
        </g>
        <g v-for="(p, n) in wiring.tool.pins" :key="`t${n}`" :class="{ empty: p.job === 'empty' }">
          <rect v-if="n === 0" :x="toolX - 12" :y="y(1) - 12" width="24" height="24" class="pin" /><circle v-else :cx="toolX" :cy="y(n + 1)" r="12" class="pin" />
          <text :x="toolX + 22" :y="y(n + 1) + 2" class="name"><tspan class="mono">{{ n + 1 }}</tspan> {{ drawn(p) }}</text>
          <text v-if="p.job === 'empty'" :x="toolX + 22" :y="y(n + 1) + 20" class="small">{{ say('leave empty{1}', p.says?.en && !narrow ? `: ${p.says.en}` : '') }}</text>
        </g>
        <g v-for="w in lines" :key="`l${w.tool}-${w.unit}`">
          <rect :x="unitX + 20" :y="w.at - 12" :width="pill" height="24" rx="12" class="pill" /><text :x="unitX + 20 + pill / 2" :y="w.at + 5" text-anchor="middle" class="small ink">{{ w.colour || '________' }}</text>
        </g>
      </svg>
    </div>
    <template v-if="narrow">
      <p class="small"><Says text="{1} of {2}: {3}. Of {4}: {5}." :put="{ 2: wiring.unit.name, 3: wiring.unit.edge.en, 4: wiring.tool.name, 5: wiring.tool.edge.en }"><template #1><strong>Pin 1</strong></template></Says></p>
      <p v-for="x in empty" :key="x.at + x.n" class="small">{{ say('Pin {1} of the {2} stays empty: {3}.', x.n, x.at, x.p.says?.en) }}</p>
    </template>
    <p v-if="supply" class="power"><strong>{{ say('Power: {1}.', listed(feeds[supply.from], supply.volts && say('{1} V', supply.volts), supply.pin && say('at pin {1}', supply.pin))) }}</strong> {{ supply.says?.en }}</p>
    <p class="small"><strong v-if="crossed">The data lines cross by their names: transmit goes to receive.</strong> <template v-if="wiring.selector"><Says text="The adapter’s switch stands at {1}. "><template #1><strong>{{ wiring.selector }}</strong></template></Says></template><template v-if="seen">{{ say('Colours as {1} saw them, {2}.', seen.by, ago(seen.at)) }}</template><template v-else-if="edit">If this lead has other colours, say which.</template><template v-else>The usual colours; if this lead has others, go by the pins.</template></p>
    <datalist v-if="edit" id="wire-colours"><option v-for="(_, name) in wires" :key="name" :value="name" /></datalist>
    <table class="plain">
      <thead><tr><th>Unit’s pin</th><th>Adapter’s pin</th><th>{{ edit ? 'Colour this time' : 'Colour' }}</th></tr></thead>
      <tbody>
        <tr v-for="w in wiring.wires" :key="`${w.tool}${w.unit}`"><td>{{ w.unit }} {{ pinName(wiring.unit.pins[w.unit - 1]) }}</td><td>{{ w.tool }} {{ pinName(wiring.tool.pins[w.tool - 1]) }}</td><td><input v-if="edit" class="colour" list="wire-colours" maxlength="40" :value="colourOf(w)" :aria-label="say('Colour of the wire at the unit’s pin {1}, or what is written on it', w.unit)" :data-wire="w.unit" @input="mark(w.unit, $event)" /><template v-else>{{ colourOf(w) || 'not told' }}</template></td></tr>
      </tbody>
    </table>
  </figure>
</template>

<style scoped>
.sheet { overflow-x: auto; background: rgb(var(--v-theme-surface)); border: 1px solid var(--line); border-radius: 8px; padding: 12px; }
svg { width: 100%; min-width: 640px; max-width: 980px; height: auto; display: block; color: var(--ink); }
svg.narrow { min-width: 0; }
text { font: 16px var(--body); fill: var(--ink); }
.head { font-weight: 700; }
.small { font-size: 14px; fill: var(--muted); }
.narrow .small { font-size: 12px; }
.ink { fill: var(--ink); }
.mono { font-family: var(--mono); }
.pin { fill: rgb(var(--v-theme-surface-light)); stroke: var(--ink); stroke-width: 2; }
.empty .pin { fill: none; stroke-dasharray: 4 3; }
.casing { fill: none; stroke: var(--ink); stroke-width: 9; }
.wire { fill: none; stroke-width: 5; }
.pill { fill: rgb(var(--v-theme-surface)); stroke: var(--ink); stroke-width: 1.5; }
.colour { width: 100%; min-width: 100px; height: 44px; padding: 0 8px; border: 1.5px solid var(--outline); border-radius: 4px; color: inherit; background: rgb(var(--v-theme-surface)); font: inherit; }
p { margin: 8px 0; }
</style>
