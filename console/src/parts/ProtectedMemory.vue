<script setup lang="ts">
// What cannot be saved, what is erased, and the ways on.
import { mdiArrowULeftTop, mdiLock, mdiPencil, mdiShieldCheck, mdiTrashCanOutline } from '@mdi/js'
import type { Card } from '../api/client'
import { fates } from '../api/names'
import { kib } from '../words'

defineProps<{ card: Card }>()
const fate: Record<string, [string, string]> = {
  stays: [mdiShieldCheck, ''],
  written: [mdiPencil, ''],
  'put-back': [mdiArrowULeftTop, 'teal'],
  lost: [mdiTrashCanOutline, 'brick'],
}
</script>

<template>
  <section v-if="card.wayBack !== 'full'" class="protected" data-protected :data-way="card.wayBack">
    <div class="row head"><v-icon :icon="mdiLock" size="32" class="brick" /><h2>No full backup can be taken</h2></div>
    <p>{{ card.noBackup?.text }}</p>
    <ul class="rows">
      <li v-for="f in card.fates" :key="f.name" class="fate" :class="fate[f.fate]![1]"><v-icon :icon="fate[f.fate]![0]" size="24" /><strong>{{ f.name }}</strong><span class="counts">{{ kib(f.bytes) }}</span><span>{{ fates[f.fate] }}</span></li>
    </ul>
    <h3>Ways on</h3>
    <ul class="ways">
      <li v-for="w in card.waysOn" :key="w.id">{{ w.text }}</li>
    </ul>
  </section>
</template>

<style scoped>
.protected { border-left: 8px solid rgb(var(--v-theme-error)); background: rgb(var(--v-theme-surface)); padding: 16px 20px; margin: 20px 0; display: grid; gap: 12px; }
.head { gap: 12px; flex-wrap: nowrap; }
.fate { display: grid; grid-template-columns: 28px minmax(90px, 140px) 90px 1fr; gap: 12px; align-items: center; }
h3 { font-size: 16px; }
.ways { padding-left: 20px; display: grid; gap: 6px; max-width: 80ch; }
@media (max-width: 600px) { .fate { grid-template-columns: 28px 1fr auto; } .fate span:last-child { grid-column: 2 / -1; } }
</style>
