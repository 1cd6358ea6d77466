<script setup lang="ts">
import { mdiClose, mdiCircleHalfFull, mdiCircleOffOutline, mdiFerry, mdiPackageVariant, mdiPause } from '@mdi/js'
import { computed, ref } from 'vue'

import { api, problem, type Problem, type Run, type Unit } from '../api/client'
import { every } from '../every'
import Trouble from '../parts/Trouble.vue'
import { cap, outcomes, sentence, when } from '../words'

const open = ref<Run[]>([])
const half = ref<Unit[]>([])
const unproven = ref<Unit[]>([])
const last = ref<Run[]>([])
const loaded = ref(false)
const trouble = ref<Problem | null>(null)

async function load() {
  try {
    const [a, b, c, d] = await Promise.all([
      api.GET('/api/runs', { params: { query: { state: 'open' } } }),
      api.GET('/api/units', { params: { query: { state: 'half-done', size: 50 } } }),
      api.GET('/api/runs', { params: { query: { state: 'closed', limit: 8 } } }),
      api.GET('/api/units', { params: { query: { state: 'not-proven', size: 50 } } }),
    ])
    if (a.error || b.error || c.error || d.error) throw a.error ?? b.error ?? c.error ?? d.error
    open.value = a.data.runs
    half.value = b.data.units.filter((u) => !u.run)
    unproven.value = d.data.units.filter((u) => !u.run)
    last.value = c.data.runs
    trouble.value = null
  } catch (e) {
    trouble.value = problem(e)
  }
  loaded.value = true
}
const ends = computed(() => open.value.length + half.value.length + unproven.value.length)
every(3000, load)
</script>

<template>
  <div class="page">
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-else-if="loaded">
      <div class="row spread">
        <h1>{{ ends ? `${ends} ${ends === 1 ? 'thing' : 'things'} unfinished` : 'Nothing unfinished' }}</h1>
        <span class="small muted">unsafe first, then oldest</span>
      </div>
      <hr class="rule top" />
      <ul class="rows">
        <li v-for="r in [...open].sort((a, b) => Number(b.state === 'paused') - Number(a.state === 'paused'))" :key="r.id" class="end">
          <span class="mark" :class="r.state === 'paused' ? 'half' : 'work'"><v-icon :icon="r.progress.view.laid ? mdiPackageVariant : r.state === 'paused' ? mdiPause : mdiFerry" /></span>
          <div class="what">
            <div><strong :class="r.state === 'paused' ? 'brick' : ''">{{ r.progress.view.laid ? (r.progress.view.touched ? 'laid aside, half done' : 'laid aside') : outcomes[r.outcome] }}</strong> <strong>{{ r.unit.modelName }} {{ r.unit.serial }}</strong><template v-if="r.unit.site">, {{ r.unit.site }}</template></div>
            <div class="muted">{{ r.kind }} {{ r.version }} on {{ r.link }}<template v-if="r.progress.view.laid">. {{ cap(r.progress.view.laid.place) }}, with {{ r.progress.view.laid.holder }}. {{ sentence(r.progress.view.laid.why) }}</template><template v-else-if="r.progress.view.hands">. Waits for you: {{ r.progress.view.hands.says }}</template><template v-else-if="r.progress.fault">. {{ r.progress.fault.message }}</template></div>
          </div>
          <div class="who small">{{ r.by }}<br /><span class="muted">since {{ when(r.opened) }}</span></div>
          <v-btn variant="outlined" :to="`/runs/${r.id}`">{{ r.state === 'paused' ? 'Go on' : 'Look' }}</v-btn>
        </li>
        <li v-for="u in half" :key="u.id" class="end">
          <span class="mark half"><v-icon :icon="mdiCircleHalfFull" /></span>
          <div class="what">
            <div><strong class="brick">half done</strong> <strong>{{ u.modelName }} {{ u.serial }}</strong><template v-if="u.site">, {{ u.site }}</template></div>
            <div class="muted">A write was begun and did not end well. Do not put it back to work.</div>
          </div>
          <div class="who small muted">seen {{ when(u.seen) }}</div>
          <v-btn variant="outlined" :to="`/units/${u.id}`">Decide</v-btn>
        </li>
        <li v-for="u in unproven" :key="u.id" class="end">
          <span class="mark ring"><v-icon :icon="mdiCircleOffOutline" /></span>
          <div class="what">
            <div><strong>not proven</strong> <strong>{{ u.modelName }} {{ u.serial }}</strong><template v-if="u.site">, {{ u.site }}</template></div>
            <div class="muted">Written and verified, but nobody has seen it run, or a test is still to be passed.</div>
          </div>
          <div class="who small muted">seen {{ when(u.seen) }}</div>
          <v-btn variant="outlined" :to="`/units/${u.id}`">Decide</v-btn>
        </li>
      </ul>
      <v-empty-state v-if="!ends" title="Every run is closed" text="Plug a unit in and identify it, and its work begins here." action-text="To the links" to="/benches" />
      <template v-if="last.length">
        <h2 class="later">Closed lately</h2>
        <table class="plain">
          <thead><tr><th>Unit</th><th>What</th><th>Version</th><th>Outcome</th><th>By</th><th>Closed</th></tr></thead>
          <tbody>
            <tr v-for="r in last" :key="r.id">
              <td><router-link :to="`/units/${r.unit.id}`" class="mono">{{ r.unit.serial }}</router-link></td>
              <td>{{ r.kind }}</td>
              <td class="mono">{{ r.from || '?' }}<template v-if="r.to !== r.from"> → {{ r.to || '?' }}</template></td>
              <td><router-link :to="`/runs/${r.id}`"><v-icon v-if="r.outcome === 'not-proven'" :icon="mdiCircleOffOutline" size="18" /><v-icon v-else-if="!['done', 'nothing-to-do'].includes(r.outcome)" :icon="mdiClose" size="18" class="brick" />{{ outcomes[r.outcome] }}</router-link></td>
              <td>{{ r.by }}</td>
              <td class="small">{{ when(r.closed) }}</td>
            </tr>
          </tbody>
        </table>
      </template>
    </template>
    <v-skeleton-loader v-else type="heading, list-item-two-line@3" color="background" />
  </div>
</template>

<style scoped>
.top { margin-top: 8px; }
.later { margin: 32px 0 4px; }
.end { display: flex; gap: 16px; align-items: center; }
.mark { width: 44px; height: 44px; display: grid; place-items: center; flex: none; border-radius: 50%; border: 2px solid; }
.mark.half { color: rgb(var(--v-theme-error)); background: rgb(var(--v-theme-tint-brick)); }
.mark.ring { border-style: dashed; }
.mark.work { color: rgb(var(--v-theme-primary)); background: rgb(var(--v-theme-tint-blue)); }
.what { flex: 1; min-width: 0; }
.who { width: 190px; }
@media (max-width: 700px) {
  .end { flex-wrap: wrap; }
  .who { width: auto; }
  table.plain th:nth-child(n + 5), table.plain td:nth-child(n + 5) { display: none; }
}
</style>
