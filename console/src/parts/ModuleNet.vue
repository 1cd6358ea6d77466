<script setup lang="ts">
// The modules of a vehicle on their buses: what each runs, how it stands, what to do.
import { mdiAlertOctagon, mdiArrowRight, mdiCheckCircle, mdiCircleOffOutline, mdiHelpCircleOutline, mdiUpdate } from '@mdi/js'
import { computed } from 'vue'

import type { Module } from '../api/client'
import { session } from '../session'
import { say } from '../words'

const props = defineProps<{ modules: Module[]; work: boolean }>()

const stands = (m: Module) => {
  if (m.empty) return { kind: 'off', icon: mdiCircleOffOutline, says: 'empty' }
  if (m.silent) return { kind: 'bad', icon: mdiAlertOctagon, says: 'does not answer' }
  if (m.error) return { kind: 'bad', icon: mdiHelpCircleOutline, says: 'not known' }
  if (m.boot) return { kind: 'bad', icon: mdiAlertOctagon, says: 'in its boot loader, no program' }
  if (m.newer) return { kind: 'next', icon: mdiUpdate, says: 'a newer release fits' }
  if (m.current) return { kind: 'well', icon: mdiCheckCircle, says: 'nothing newer fits' }
  return { kind: 'off', icon: mdiHelpCircleOutline, says: m.verdict || 'not known which unit it is' }
}
const self = computed(() => props.modules[0])
const buses = computed(() => {
  const all: { name: string; modules: Module[] }[] = []
  for (const m of props.modules.slice(1)) {
    const bus = all.find((b) => b.name === (m.bus ?? ''))
    if (bus) bus.modules.push(m)
    else all.push({ name: m.bus ?? '', modules: [m] })
  }
  return all
})
const many = (n: number, one: string) => `${n} ${one}${n === 1 ? '' : 's'}`
</script>

<template>
  <div class="net">
    <div v-if="self" class="card port"><strong>Gateway</strong><div class="small muted">{{ self.running || 'no program' }}</div><div v-if="self.codes.length" class="small brick">{{ many(self.codes.length, 'fault code') }}</div></div>
    <div class="buses">
      <section v-for="b in buses" :key="b.name" class="bus">
        <h2>{{ b.name || 'Modules' }}</h2>
        <div class="wire" aria-hidden="true" />
        <ul class="cards">
          <li v-for="m in b.modules" :key="m.slot" class="card" :class="stands(m).kind" :data-slot="m.slot">
            <h3><router-link v-if="m.unit" :to="`/units/${m.unit}`">{{ m.title }}</router-link><template v-else>{{ m.title }}</template></h3>
            <div class="tag"><v-icon :icon="stands(m).icon" size="18" /> {{ stands(m).says }}</div>
            <template v-if="!m.empty">
              <dl>
                <dt>serial</dt><dd class="mono">{{ m.serial || 'not told' }}</dd>
                <dt>version</dt><dd><strong>{{ m.running || 'none' }}</strong> <span v-if="m.newer" class="tobe">{{ say('to be {1}', m.newer) }}</span></dd>
                <dt>hardware</dt><dd>{{ m.revision || 'not told' }}</dd>
                <dt>codes</dt><dd>{{ m.codes.length || 'none' }} <span v-for="c in m.codes" :key="c.code" class="mono code">{{ c.code }}</span></dd>
              </dl>
              <p v-if="m.error" class="small brick">{{ m.error }}. {{ m.next }}</p>
              <v-btn v-if="m.model && work && session.may('technician')" :variant="m.newer ? 'flat' : 'outlined'" color="primary" :append-icon="mdiArrowRight" :to="`/begin/${m.at}`" :data-work="m.slot">{{ m.newer ? say('Write {1}', m.newer) : 'Work on it' }}</v-btn>
            </template>
          </li>
        </ul>
      </section>
    </div>
  </div>
</template>

<style scoped>
.net { display: grid; grid-template-columns: 150px 1fr; gap: 0; align-items: center; margin: 16px 0 28px; }
.port { text-align: center; border-width: 2px; border-color: currentColor; }
.port::after { content: ''; position: absolute; left: 100%; top: calc(50% - 3px); height: 6px; width: 18px; background: var(--ink); }
.buses { border-left: 6px solid var(--ink); display: grid; gap: 24px; padding-left: 0; margin-left: 16px; }
.bus h2 { font-size: 18px; padding-left: 20px; }
.bus h2::first-letter { text-transform: uppercase; }
.wire { height: 6px; background: var(--ink); margin: 6px 0 0; }
.cards { list-style: none; display: grid; grid-template-columns: repeat(auto-fill, minmax(250px, 1fr)); gap: 16px; padding: 0 0 0 20px; }
.card { position: relative; background: rgb(var(--v-theme-surface)); border: 1px solid var(--outline); border-radius: 8px; padding: 14px 16px; }
.cards > .card { margin-top: 22px; }
.cards > .card::before { content: ''; position: absolute; left: 26px; top: -23px; height: 22px; width: 5px; background: var(--ink); }
.card.bad { border: 2px solid rgb(var(--v-theme-error)); }
.card.off { background: transparent; border-style: dashed; }
.card h3 { font-size: 18px; }
.tag { display: inline-flex; gap: 6px; align-items: center; font-weight: 700; border-radius: 4px; padding: 2px 8px; margin: 6px 0; }
.well .tag { background: rgb(var(--v-theme-tint-teal)); }
.next .tag { background: rgb(var(--v-theme-tint-blue)); }
.bad .tag { background: rgb(var(--v-theme-tint-brick)); }
.off .tag { padding-left: 0; color: var(--muted); }
dl { display: grid; grid-template-columns: 76px 1fr; gap: 4px 8px; margin: 6px 0 12px; }
dt { color: var(--muted); font-size: 15px; }
.tobe { border-bottom: 2px dashed currentColor; }
.code { margin-right: 8px; }
@media (max-width: 700px) {
  .net { grid-template-columns: 1fr; }
  .port { margin-bottom: 12px; }
  .port::after { display: none; }
  .buses { margin-left: 0; }
}
</style>
