<script setup lang="ts">
// The parts of a unit of several, in their order, with what hands do between them:
// a second line below the line of stops. The part at work fans out into the strip
// that follows.
import { mdiCheck, mdiHandBackRight } from '@mdi/js'

import type { PartView } from '../api/client'
import { conditions, kib, say } from '../words'

defineProps<{ parts: PartView[] }>()

const reached = (p: PartView) => p.passed || p.condition === 'proven' || p.condition === 'verified'
const before = (p: PartView) => p.before ?? []
const tone: Record<string, string> = { proven: 'teal', verified: 'teal', 'partly written': 'blue', written: 'blue', unknown: 'brick', untouched: 'open' }

function did(p: PartView): string {
  if (p.passed) return 'right already'
  if (!p.changes) return p.saved ? 'saved' : ''
  if (p.right === p.changes) return p.files ? say('{1} files', p.changes) : kib(p.total)
  return p.files ? say('{1} of {2} files', p.right, p.changes) : say('{1} of {2}', kib(p.done), kib(p.total))
}

// small draws a strip in at most twelve cells, each showing what is farthest from done.
function small(strip: string): string[] {
  const order = 'dweWavk'
  const n = Math.min(12, strip.length)
  return Array.from({ length: n }, (_, i) => {
    const piece = strip.slice(Math.floor((i * strip.length) / n), Math.floor(((i + 1) * strip.length) / n))
    return [...piece].reduce((a, c) => (order.indexOf(c) < order.indexOf(a) ? c : a))
  })
}
</script>

<template>
  <ol class="parts" aria-label="Parts, in their order">
    <template v-for="(p, i) in parts" :key="p.name">
      <li v-for="b in before(p)" :key="b" class="between" :class="{ gone: reached(p) || p.atWork }">
        <span class="stop square"><v-icon :icon="mdiHandBackRight" size="18" /></span>
        <span class="text">{{ b }}</span>
      </li>
      <li class="part" :class="{ now: p.atWork, gone: reached(p) }" :aria-current="p.atWork ? 'step' : undefined" :data-part="p.name">
        <span class="stop"><v-icon v-if="reached(p)" :icon="mdiCheck" size="20" /><template v-else>{{ i + 1 }}</template></span>
        <span class="text">
          <span class="title"><strong>{{ p.title }}</strong> <span v-if="p.version" class="mono">{{ p.version }}</span></span>
          <span class="row tags">
            <span class="tag" :class="tone[p.condition]" data-condition>{{ p.passed ? 'right already' : conditions[p.condition] }}</span>
            <span v-if="p.strip && !p.atWork" class="mini" aria-hidden="true"><i v-for="(c, n) in small(p.strip)" :key="n" :class="`c-${c}`" /></span>
            <span class="small muted counts">{{ p.passed ? '' : did(p) }}</span>
          </span>
        </span>
      </li>
    </template>
  </ol>
</template>

<style scoped>
.parts { list-style: none; display: flex; gap: 8px 20px; margin-bottom: 16px; }
.part, .between { display: flex; gap: 10px; align-items: flex-start; flex: 1 1 auto; min-width: 0; }
.between { flex: 0 1 210px; font-size: 15px; line-height: 20px; }
.stop { width: 34px; height: 34px; flex: none; display: grid; place-items: center; border-radius: 50%; border: 2px solid var(--outline); background: rgb(var(--v-theme-background)); color: var(--muted); font-weight: 700; }
.square { border-radius: 6px; }
.gone .stop { background: var(--ink); border-color: var(--ink); color: rgb(var(--v-theme-background)); }
.now .stop { background: var(--ink); border-color: var(--ink); color: rgb(var(--v-theme-background)); outline: 3px solid var(--ink); outline-offset: 3px; }
.text { display: grid; gap: 4px; min-width: 0; }
.between .text { padding-top: 6px; }
.title { font-size: 18px; line-height: 24px; }
.tags { gap: 10px; flex-wrap: wrap; }
.tag { border: 1.5px solid; border-radius: 4px; padding: 1px 10px; font-weight: 700; font-size: 15px; }
.tag.teal { color: rgb(var(--v-theme-secondary)); background: rgb(var(--v-theme-tint-teal)); }
.tag.blue { color: rgb(var(--v-theme-primary)); background: rgb(var(--v-theme-tint-blue)); }
.tag.brick { color: rgb(var(--v-theme-error)); background: rgb(var(--v-theme-tint-brick)); }
.tag.open { border-style: dashed; }
.mini { display: inline-flex; gap: 1px; }
.mini i { width: 8px; height: 18px; display: block; border: 1px solid transparent; }
.c-v { background: rgb(var(--v-theme-sec-verified)); }
.c-W { background: rgb(var(--v-theme-sec-written)); }
.c-w { background: linear-gradient(to top, rgb(var(--v-theme-sec-written)) 50%, rgb(var(--v-theme-surface)) 50%); }
.mini .c-e, .mini .c-w { border-color: var(--outline); }
.c-a { background: rgb(var(--v-theme-sec-already)); }
.c-k { background: rgb(var(--v-theme-sec-kept)); }
.c-d { background: rgb(var(--v-theme-error)); }
@media (max-width: 1000px) { .parts { flex-wrap: wrap; } }
@media (max-width: 700px) { .parts { flex-direction: column; } .between { flex: none; } }
</style>
