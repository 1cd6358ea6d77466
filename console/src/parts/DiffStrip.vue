<script setup lang="ts">
// How two images differ, one cell a sector.
import { computed } from 'vue'

import type { Difference } from '../api/client'
import { grouped, hex, say } from '../words'
import Says from './Says.vue'

const props = defineProps<{ difference: Difference; a: string; b: string }>()
const most = 240
const order = ['differs', 'only-a', 'only-b', 'same']
const words = computed<Record<string, string>>(() => ({ same: 'the same', differs: 'differ', 'only-a': say('only in {1}', props.a), 'only-b': say('only in {1}', props.b) }))
const cells = computed(() => {
  const all = props.difference.cells
  const each = Math.max(1, Math.ceil(all.length / most))
  const out: { address: number; state: string; bytes: number; count: number }[] = []
  for (let i = 0; i < all.length; i += each) {
    const part = all.slice(i, i + each)
    const state = order.find((s) => part.some((c) => c.state === s)) ?? 'same'
    out.push({ address: part[0]!.address, state, bytes: part.reduce((n, c) => n + c.bytes, 0), count: part.length })
  }
  return out
})
const counts = computed(() => order.map((s) => ({ state: s, count: props.difference.cells.filter((c) => c.state === s).length })).filter((x) => x.count))
</script>

<template>
  <figure>
    <div class="cells" :style="{ '--n': cells.length }">
      <span v-for="c in cells" :key="c.address" class="cell" :class="c.state" role="img" :title="say('{1}: {2}, {3} bytes', hex(c.address), words[c.state], grouped(c.bytes))" :aria-label="`${hex(c.address)}: ${words[c.state]}`" />
    </div>
    <figcaption class="legend"><span v-for="l in counts" :key="l.state"><i class="cell" :class="l.state" /> <Says text="{1} sectors {2}" :put="{ 2: words[l.state] }"><template #1><strong class="counts">{{ l.count }}</strong></template></Says></span></figcaption>
  </figure>
</template>

<style scoped>
.cells { display: grid; grid-template-columns: repeat(var(--n), minmax(0, 1fr)); gap: 1px; }
.cell { height: 44px; display: block; }
.same { background: linear-gradient(rgb(var(--v-theme-secondary)), rgb(var(--v-theme-secondary))) center / 100% 2px no-repeat rgb(var(--v-theme-sec-already)); }
.differs { background: rgb(var(--v-theme-sec-written)); }
.only-a { background: repeating-linear-gradient(115deg, rgb(var(--v-theme-sec-erase)) 0 4px, var(--outline) 4px 5px); border: 1px solid var(--outline); }
.only-b { background: repeating-linear-gradient(90deg, rgb(var(--v-theme-sec-kept)) 0 2px, var(--outline) 2px 3px); }
.legend { display: flex; flex-wrap: wrap; gap: 6px 24px; margin-top: 8px; font-size: 15px; }
.legend span { display: inline-flex; gap: 6px; align-items: center; }
.legend .cell { width: 22px; height: 18px; display: inline-block; }
</style>
