<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, problem, type Have, type Problem } from '../api/client'
import { allGear } from '../lists'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { cap, day, say } from '../words'

const gear = ref<Have[] | null>(null)
const trouble = ref<Problem | null>(null)
const kinds = ['entitlement', 'adapter', 'cable', 'software', 'accessory'] as const
const form = ref({ kind: 'adapter' as (typeof kinds)[number], name: '', owner: '', version: '', until: '', left: '', cost: '', note: '' })

async function load() {
  try {
    gear.value = await allGear()
  } catch (e) {
    trouble.value = problem(e)
  }
}
load()
async function add() {
  trouble.value = null
  const f = form.value
  const { error } = await api.POST('/api/gear', {
    body: { kind: f.kind, name: f.name, owner: f.owner, version: f.version, cost: f.cost, note: f.note, ...(f.until && { expires: `${f.until}T23:59:59Z` }), ...(f.left && { left: Number(f.left) }) },
  })
  if (error) trouble.value = problem(error)
  else {
    form.value = { ...f, name: '', version: '', until: '', left: '', cost: '', note: '' }
    load()
  }
}
async function drop(h: Have) {
  const { error } = await api.POST('/api/gear/{gear}/drop', { params: { path: { gear: h.id } } })
  if (error) trouble.value = problem(error)
  load()
}
const soon = (h: Have) => (h.expires ? (new Date(h.expires).getTime() - Date.now()) / 864e5 : Infinity)
const sorted = computed(() => [...(gear.value ?? [])].sort((a, b) => soon(a) - soon(b) || kinds.indexOf(a.kind) - kinds.indexOf(b.kind)))
const left = (h: Have) => {
  const d = soon(h)
  if (d === Infinity) return ''
  return d < 0 ? 'run out' : d < 14 ? say('{1} days left', Math.ceil(d)) : ''
}
</script>

<template>
  <div class="page">
    <h1>Gear</h1>
    <p class="lead">What jobs need first: accesses and tokens with their end, adapters, cables, software. What runs out first stands first.</p>
    <Trouble v-if="trouble" :problem="trouble" />
    <table class="plain stack gap">
      <thead><tr><th>What</th><th>Version</th><th>With</th><th>Until</th><th>Good for</th><th>Cost</th><th>Note</th><th /></tr></thead>
      <tbody>
        <tr v-for="h in sorted" :key="h.id">
          <td><strong>{{ h.name }}</strong><div class="small muted">{{ h.kind }}</div></td><td data-label="version" class="mono">{{ h.version }}</td><td data-label="with">{{ h.owner }}</td>
          <td data-label="until">{{ h.expires ? day(h.expires) : '' }}<div v-if="left(h)" class="small" :class="soon(h) < 0 ? 'brick' : 'warn'"><strong>{{ left(h) }}</strong></div></td>
          <td data-label="good for" class="counts">{{ h.left ?? '' }}</td><td data-label="cost">{{ h.cost }}</td><td class="small">{{ h.note }}</td>
          <td><v-btn v-if="session.may('technician')" variant="text" :aria-label="say('Take off the list: {1}', h.name)" @click="drop(h)">Take off the list</v-btn></td>
        </tr>
      </tbody>
    </table>
    <p v-if="gear && !gear.length" class="muted gap">Nothing is listed yet. Add what your jobs ask for.</p>
    <form v-if="session.may('technician')" class="add" @submit.prevent="add">
      <h2>Add something</h2>
      <div class="grid">
        <v-select v-model="form.kind" :items="kinds.map((k) => ({ title: cap(k), value: k }))" label="Kind" />
        <v-text-field v-model="form.name" label="Name, as the sheets call it" />
        <v-text-field v-model="form.owner" label="With whom" />
        <v-text-field v-model="form.version" label="Version" />
        <v-text-field v-model="form.until" type="date" label="Last day" />
        <v-text-field v-model="form.left" type="number" min="0" label="Good for how many more" />
        <v-text-field v-model="form.cost" label="Cost" />
        <v-text-field v-model="form.note" label="Note" />
      </div>
      <v-btn type="submit" color="primary" :disabled="!form.name || !form.owner">Put it on the list</v-btn>
    </form>
  </div>
</template>

<style scoped>
.gap { margin-top: 16px; }
.warn { color: rgb(var(--v-theme-warning-ink)); }
.add { margin-top: 24px; display: grid; grid-template-columns: minmax(0, 1fr); gap: 12px; justify-items: start; }
.grid { display: grid; grid-template-columns: repeat(auto-fill, minmax(220px, 1fr)); gap: 12px; width: 100%; max-width: 1000px; }
</style>
