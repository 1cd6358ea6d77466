<script setup lang="ts">
// Settings over a run: as found, the wire of what becomes of each, wanted, as left; and how
// far one save reaches.
import { mdiAlertCircle, mdiEqual, mdiHandBackRight, mdiNotEqualVariant } from '@mdi/js'
import { computed, ref } from 'vue'

import type { Setup } from '../api/client'
import { settingWays } from '../api/names'
import { listed, say } from '../words'
import Says from './Says.vue'

const props = defineProps<{ setup: Setup }>()
type Line = Setup['lines'][number]
const pageStates: Record<string, string> = { saved: 'saved', next: 'next', nothing: 'nothing to save' }
const open = ref<string[]>([])
const plain = (l: Line) => l.how === 'carried' && l.left !== 'other' && !l.other && !l.public && !l.secret && !l.why
const groups = computed(() =>
  props.setup.pages.map((p) => {
    const all = props.setup.lines.filter((l) => l.page === p.name && l.how !== 'gone')
    const quiet = open.value.includes(p.name) ? [] : all.filter(plain)
    const few = quiet.length < 2 ? [] : quiet
    return { ...p, all, lines: all.filter((l) => !few.includes(l)), quiet: few }
  }),
)
const gone = computed(() => props.setup.lines.filter((l) => l.how === 'gone'))
const left = (l: Line) => (l.left === 'alike' ? l.want || 'alike' : l.left === 'other' ? l.now || 'not there' : 'not yet')
</script>

<template>
  <section class="setup" data-setup>
    <div class="row spread">
      <h2>Settings</h2>
      <span class="row tags">
        <v-chip v-if="setup.alike" color="tint-teal" class="tag teal" :prepend-icon="mdiEqual" data-alike>{{ say('{1} read back alike', setup.alike) }}</v-chip>
        <v-chip v-if="setup.other" color="tint-brick" class="tag brick" :prepend-icon="mdiNotEqualVariant" data-other>{{ say('{1} other than wanted', setup.other) }}</v-chip>
        <v-chip v-if="setup.ahead" variant="outlined" class="tag ahead">{{ say('{1} still to put', setup.ahead) }}</v-chip>
      </span>
    </div>
    <p class="lead">{{ setup.head.text }}</p>
    <div class="group heads small muted"><div class="line"><span>setting</span><span>as found</span><span /><span>wanted</span><span>as left, read back</span></div><span>how far one save reaches</span></div>
    <div v-for="p in groups" :key="p.name" class="group" :class="p.state">
      <div class="lines">
        <div v-for="l in p.lines" :key="l.section + l.name" class="line" :data-line="l.name">
          <strong>{{ l.title }}<span v-if="l.section" class="small muted"> {{ l.section }}</span></strong>
          <span class="found"><span v-if="l.found" :class="{ mono: l.secret }">{{ l.found }}</span><span v-else class="none">not there</span><span v-if="l.public" class="small brick block"><v-icon :icon="mdiAlertCircle" size="14" /> public default</span><span v-else-if="l.was" class="small mono muted block">{{ l.was }}</span></span>
          <span class="wire" :class="{ cut: !['carried', 'renamed', 'rescaled', 'mapped', 'left'].includes(l.how) && l.found, from: !l.found }"><span class="pill" :class="{ ask: l.how === 'asked' }"><v-icon v-if="l.how === 'asked'" :icon="mdiHandBackRight" size="16" /> {{ settingWays[l.how] ?? l.how }}</span></span>
          <span class="want"><strong v-if="l.want" :class="{ mono: l.secret }">{{ l.want }}</strong><span v-if="l.was" class="small mono muted name">{{ l.name }}</span><span v-if="l.from" class="small muted block">{{ l.from }}</span><span v-if="l.why && l.how !== 'filled'" class="small block" :class="l.how === 'by-rule' ? 'brick' : 'muted'">{{ l.why.text }}</span><span v-if="l.other" class="small muted block">{{ say('{1} has {2}', l.whose, l.other) }}</span></span>
          <span class="left" :class="l.left"><v-icon v-if="l.left === 'alike'" :icon="mdiEqual" class="teal" size="20" aria-label="alike" /><v-icon v-else-if="l.left === 'other'" :icon="mdiNotEqualVariant" class="brick" size="20" aria-label="other" /> {{ left(l) }}</span>
        </div>
        <div v-if="p.quiet.length" class="line">
          <strong>{{ say('{1} more, as they were', p.quiet.length) }}</strong><span class="found">{{ say('{1} values', p.quiet.length) }}</span><span class="wire"><span class="pill">{{ settingWays.carried }}</span></span><span class="want"><v-btn variant="text" color="primary" class="all" :data-all="p.name" @click="open.push(p.name)">Show them</v-btn></span><span class="left" :class="p.quiet[0]!.left">{{ p.quiet[0]!.left === 'alike' ? say('{1} alike', p.quiet.length) : 'not yet' }}</span>
        </div>
      </div>
      <div class="reach" :class="p.state" :data-page="p.name"><strong>{{ listed(p.title ? say('Page {1}', p.title) : 'No page', pageStates[p.state]) }}</strong><span class="small">{{ p.says.text }}</span></div>
    </div>
    <p class="foot"><span v-if="gone.length"><Says text="{1} {2}. Their values stay in the backup. "><template #1><strong>{{ say('Not carried, {1}:', gone.length) }}</strong></template><template #2><template v-for="(l, i) in gone" :key="l.name">{{ i ? ', ' : '' }}<span class="mono">{{ l.name }}</span> ({{ listed(l.found, l.left === 'other' && 'still there') }})<template v-if="l.why">: {{ l.why.text.replace(/\.$/, '') }}</template></template></template></Says></span><strong class="sum">{{ setup.count.text }}.</strong></p>
  </section>
</template>

<style scoped>
.setup { margin: 8px 0 20px; display: grid; grid-template-columns: minmax(0, 1fr); gap: 4px; }
.tag { font-weight: 700; }
.ahead { border-style: dashed; }
.line { display: grid; grid-template-columns: 1.1fr 1fr 0.9fr 1.3fr 1fr; gap: 8px; }
.group { display: grid; grid-template-columns: 5.3fr 1.1fr; gap: 12px; margin-bottom: 8px; }
.line { align-items: center; border-bottom: 1px solid var(--line); padding: 6px 0; min-height: 48px; }
.heads { font-weight: 700; border-bottom: 1px solid var(--line); }
.heads > span { align-self: center; padding-left: 12px; }
.heads .line { border: 0; min-height: 36px; padding: 0; }
.name { margin-left: 6px; }
.block { display: block; }
.none { border-bottom: 1px dashed var(--outline); color: var(--muted); }
.wire { position: relative; display: flex; justify-content: center; align-items: center; min-height: 28px; }
.wire::before { content: ''; position: absolute; left: 0; right: 8px; top: 50%; border-top: 2px solid var(--ink); }
.wire::after { content: ''; position: absolute; right: 4px; top: calc(50% - 4px); width: 8px; height: 8px; border-top: 2px solid var(--ink); border-right: 2px solid var(--ink); transform: rotate(45deg); }
.wire.from::before, .wire.cut::before { left: 50%; }
.wire.cut { background: linear-gradient(var(--ink), var(--ink)) 0 50% / 14px 2px no-repeat, linear-gradient(var(--ink), var(--ink)) 14px 50% / 2px 12px no-repeat; }
.pill { position: relative; z-index: 1; background: rgb(var(--v-theme-surface)); border: 1.5px solid var(--ink); border-radius: 14px; padding: 2px 10px; font-size: 14px; text-align: center; }
.pill.ask { background: rgb(var(--v-theme-hands-on)); color: rgb(var(--v-theme-on-hands-on)); font-weight: 700; border-radius: 4px; }
.left.not-yet { border: 1px dashed var(--outline); border-radius: 4px; text-align: center; font-size: 14px; padding: 2px 6px; color: var(--muted); }
.reach { border-left: 4px dashed var(--outline); padding-left: 12px; display: flex; flex-direction: column; justify-content: center; gap: 4px; }
.reach.saved, .reach.nothing { border-left: 4px solid rgb(var(--v-theme-secondary)); }
.reach.next { border-left: 4px solid rgb(var(--v-theme-primary)); }
.reach.saved strong { color: rgb(var(--v-theme-secondary)); }
.reach.next strong { color: rgb(var(--v-theme-primary)); }
.all { height: 44px; padding: 0; margin: -10px 0; }
.foot { border-top: 1px solid var(--line); padding-top: 8px; }
.sum { white-space: nowrap; }
@media (max-width: 900px) {
  .heads { display: none; }
  .group { grid-template-columns: minmax(0, 1fr); }
  .line { grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); }
  .sum { white-space: normal; }
  .line > strong { grid-column: 1 / -1; }
  .wire { justify-content: flex-start; }
  .wire::before, .wire::after { display: none; }
  .wire.cut { background: none; }
  .reach { flex-direction: column; }
}
</style>
