<script setup lang="ts">
// The rating plate of a unit: the same on every page.
import type { Unit } from '../api/client'
import { say } from '../words'

defineProps<{ unit: Unit; note?: string }>()
</script>

<template>
  <section class="plate" aria-label="Unit">
    <i /><i /><i /><i />
    <div class="inner">
      <div class="top">
        <strong class="model">{{ unit.modelName || unit.model }}</strong>
        <strong>{{ unit.revision ? say('rev {1}', unit.revision) : 'rev not known' }}</strong>
      </div>
      <div class="serial mono">{{ unit.serial }}</div>
      <div class="foot small">
        <div>{{ unit.site || 'No site noted' }}</div>
        <div class="muted">{{ note ?? (unit.link ? say('on {1}', unit.link) : 'on no link now') }}</div>
      </div>
    </div>
  </section>
</template>

<style scoped>
.plate { position: relative; border: 2px solid var(--ink); border-radius: 8px; padding: 4px; background: rgb(var(--v-theme-surface)); min-width: 280px; max-width: 320px; }
.inner { border: 1px solid var(--ink); border-radius: 5px; padding: 8px 24px; }
.plate i { position: absolute; width: 7px; height: 7px; border-radius: 50%; background: var(--outline); }
.plate i:nth-child(1) { top: 10px; left: 10px; }
.plate i:nth-child(2) { top: 10px; right: 10px; }
.plate i:nth-child(3) { bottom: 10px; left: 10px; }
.plate i:nth-child(4) { bottom: 10px; right: 10px; }
.top { display: flex; justify-content: space-between; gap: 12px; padding-bottom: 6px; }
.model { font-size: 19px; }
.serial { font-size: 22px; font-weight: 600; border-top: 1px solid var(--line); border-bottom: 1px solid var(--line); padding: 4px 0; }
.foot { padding-top: 6px; line-height: 1.4; }
@media (max-width: 600px) {
  .plate { max-width: none; width: 100%; min-width: 0; padding: 0; border-width: 1.5px; }
  .plate i { display: none; }
  .inner { border: 0; padding: 8px 12px; display: flex; flex-wrap: wrap; gap: 4px 12px; align-items: baseline; }
  .top, .serial, .foot { border: 0; padding: 0; font-size: 16px; }
  .foot { font-size: 14px; }
}
</style>
