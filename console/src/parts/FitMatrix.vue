<script setup lang="ts">
// Releases against revisions, with the reason in each cell; the last column is
// this unit. Where a release can be picked, its row is a choice.
import { mdiAlert, mdiCheckCircle, mdiCloseCircle, mdiHelpCircle } from '@mdi/js'

import type { Cell, Matrix } from '../api/client'
import { listed, say, verdicts } from '../words'
import Says from './Says.vue'

defineProps<{ matrix: Matrix; picked?: string; recommended?: string; model?: string }>()
const emit = defineEmits<{ pick: [release: string] }>()
const icons: Record<string, string> = { fits: mdiCheckCircle, 'does-not-fit': mdiCloseCircle, 'cannot-tell': mdiHelpCircle }
const short = (c: Cell) => (c.verdict === 'fits' && !c.warns ? '' : (c.short ?? ''))
</script>

<template>
  <div class="wrap">
    <table class="matrix">
      <caption class="out">{{ say('Releases against {1}, with the verdict and its reason', matrix.fact) }}</caption>
      <thead>
        <tr>
          <th scope="col"><span class="out">release</span></th>
          <th v-for="c in matrix.columns" :key="c.value" scope="col" :class="{ possible: c.possible }">
            {{ matrix.fact === 'revision' ? say('rev {1}', c.value) : say('{1} {2}', matrix.fact, c.value) }}
            <span v-if="c.flaw" class="flaw" :title="c.flaw"><v-icon :icon="mdiAlert" size="16" /> flaw</span>
          </th>
          <th v-if="matrix.rows[0]?.unit" scope="col">this unit</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in matrix.rows" :key="r.release" :class="{ picked: r.release === picked }">
          <th scope="row" class="name">
            <button v-if="picked !== undefined" type="button" class="pick" :aria-pressed="r.release === picked" :data-pick="r.version" @click="emit('pick', r.release)"><strong :class="{ gone: r.withdrawn }">{{ r.version }}</strong></button>
            <router-link v-else :to="`/releases/${r.release}`" class="pick"><strong :class="{ gone: r.withdrawn }">{{ r.version }}</strong></router-link>
            <span class="small muted">{{ listed(r.withdrawn ? 'withdrawn' : r.channel, r.release === recommended && 'recommended', r.runs && 'runs now') }}</span>
          </th>
          <td v-for="(c, i) in r.cells" :key="i" class="column" :class="{ possible: matrix.columns[i]?.possible }">
            <span class="cell" :class="[c.verdict, { warns: c.warns }]" :title="c.text"><v-icon :icon="icons[c.verdict]" size="18" /><span><strong>{{ verdicts[c.verdict] }}</strong><span v-if="short(c)" class="why">{{ short(c) }}</span></span></span>
          </td>
          <td v-if="r.unit" class="unit">
            <span class="cell" :class="[r.unit.verdict, { warns: r.unit.warns }]" :title="r.unit.text"><v-icon :icon="icons[r.unit.verdict]" size="18" /><span><strong>{{ verdicts[r.unit.verdict] }}</strong><span v-if="short(r.unit)" class="why">{{ short(r.unit) }}</span></span></span>
          </td>
        </tr>
      </tbody>
    </table>
    <ul class="notes small">
      <template v-for="c in matrix.columns" :key="c.value">
        <li v-if="c.flaw"><v-icon :icon="mdiAlert" size="16" class="brick" /> <strong>{{ matrix.fact }} {{ c.value }}:</strong> {{ c.flaw }}</li>
        <li v-if="c.target"><Says text="{1} our choice is {2}"><template #1><strong>{{ matrix.fact }} {{ c.value }}:</strong></template><template #2><span class="mono">{{ c.target }}</span></template></Says></li>
      </template>
    </ul>
  </div>
</template>

<style scoped>
.wrap { overflow-x: auto; }
.matrix { min-width: 640px; }
.matrix { border-collapse: separate; border-spacing: 5px; width: 100%; margin-left: -5px; table-layout: fixed; }
th { font-weight: 700; text-align: left; padding: 2px 4px; font-size: 16px; }
thead th { text-align: center; white-space: nowrap; }
thead th.possible, td.possible { background: rgb(var(--v-theme-surface-light)); box-shadow: -3px 0 0 rgb(var(--v-theme-surface-light)), 3px 0 0 rgb(var(--v-theme-surface-light)), 0 -3px 0 rgb(var(--v-theme-surface-light)), 0 3px 0 rgb(var(--v-theme-surface-light)); }
.flaw { color: rgb(var(--v-theme-error)); font-size: 14px; font-weight: 400; }
.name { line-height: 1.2; }
thead th:first-child { width: 138px; }
.name .small { display: block; font-weight: 400; }
.pick { font: inherit; font-family: var(--mono); font-size: 17px; color: inherit; background: none; border: 0; padding: 0; min-height: 28px; cursor: pointer; text-align: left; }
a.pick { color: rgb(var(--v-theme-primary)); }
button.pick { text-decoration: underline; text-underline-offset: 3px; }
.gone { text-decoration: line-through; }
.cell { display: flex; gap: 6px; align-items: center; min-height: 50px; padding: 3px 6px; border-radius: 4px; border: 1px solid var(--line); background: rgb(var(--v-theme-surface)); line-height: 1.25; }
.cell strong { white-space: nowrap; font-size: 15px; }
.cell > span { display: grid; }
.why { font-size: 14px; color: var(--ink); line-height: 1.2; }
.fits { background: rgb(var(--v-theme-tint-teal)); border-color: rgb(var(--v-theme-secondary)); color: rgb(var(--v-theme-secondary)); }
.does-not-fit { color: rgb(var(--v-theme-error)); }
.cannot-tell { border: 2px dashed var(--ink); color: var(--ink); }
.picked .unit .cell { outline: 3px solid var(--ink); outline-offset: 0; }
.picked .name .pick { text-decoration: none; border-bottom: 3px solid var(--ink); }
.notes { list-style: none; margin-top: 8px; display: grid; gap: 4px; }
@media (max-width: 600px) {
  .column, thead th:not(:last-child) { display: none; }
  thead { display: none; }
  .matrix { min-width: 0; }
}
</style>
