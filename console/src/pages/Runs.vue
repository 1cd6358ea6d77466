<script setup lang="ts">
// Runs, the newest first, selected by who, what, where and when.
import { reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, problem, type Problem, type Run } from '../api/client'
import { allModels } from '../lists'
import { outcomes as outcomeNames } from '../api/names'
import { newest } from '../newest'
import { usePages } from '../pages'
import PageTurner from '../parts/PageTurner.vue'
import Trouble from '../parts/Trouble.vue'
import { jobWords, outcomes, when } from '../words'

const route = useRoute()
const router = useRouter()
const size = 25
const runs = ref<Run[] | null>(null)
const pages = usePages(load)
const trouble = ref<Problem | null>(null)
const q = reactive({ unit: '', model: '', site: '', person: '', outcome: '', from: '', to: '' })
for (const k of Object.keys(q) as (keyof typeof q)[]) q[k] = String(route.query[k] ?? '')
const models = ref<{ title: string; value: string }[]>([{ title: 'All models', value: '' }])
const ends = [{ title: 'Any outcome', value: '' }, ...Object.entries(outcomeNames).filter(([value]) => value).map(([value, title]) => ({ title, value }))]

const latest = newest()
async function load() {
  const still = latest()
  const set = Object.fromEntries(Object.entries(q).filter(([, v]) => v))
  try {
    const { data, error } = await api.GET('/api/runs', { params: { query: { ...set, after: pages.after.value, limit: size } } })
    if (error) throw error
    if (!still()) return
    runs.value = data.runs
    pages.take(data)
    trouble.value = null
  } catch (e) {
    if (still()) trouble.value = problem(e)
  }
  router.replace({ query: set })
}
allModels().then((all) => all.forEach((m) => models.value.push({ title: m.name, value: m.model })))
let pause = 0
watch(q, () => {
  pages.begin()
  clearTimeout(pause)
  pause = window.setTimeout(load, 250)
})
load()
</script>

<template>
  <div class="page">
    <h1>Runs</h1>
    <div class="row filters">
      <v-text-field v-model="q.unit" label="Unit’s serial" data-field="unit" />
      <v-select v-model="q.model" :items="models" label="Model" />
      <v-text-field v-model="q.site" label="Site" data-field="site" />
      <v-text-field v-model="q.person" label="Person" data-field="person" />
      <v-select v-model="q.outcome" :items="ends" label="Outcome" data-field="outcome" />
      <v-text-field v-model="q.from" type="date" label="From" data-field="from" />
      <v-text-field v-model="q.to" type="date" label="To" data-field="to" />
    </div>
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-else-if="runs">
      <PageTurner :pages="pages" :size="size" :shown="runs.length" called="runs" one="{1} run" many="{1} runs" over="more than {1} runs" />
      <table v-if="runs.length" class="plain stack">
        <thead><tr><th>Opened</th><th>Unit</th><th>What</th><th>Version</th><th>Outcome</th><th>Why</th><th>By</th></tr></thead>
        <tbody>
          <tr v-for="r in runs" :key="r.id">
            <td class="small">{{ when(r.opened) }}</td>
            <td><router-link :to="`/units/${r.unit.id}`" class="mono">{{ r.unit.serial }}</router-link><div class="small muted">{{ r.unit.modelName }}<template v-if="r.unit.site">, {{ r.unit.site }}</template></div></td>
            <td>{{ r.kind }}</td>
            <td class="mono">{{ r.from || '?' }}<template v-if="r.to !== r.from"> → {{ r.to || '?' }}</template></td>
            <td><router-link :to="`/runs/${r.id}`">{{ outcomes[r.outcome] }}</router-link></td>
            <td class="small">{{ jobWords(r) }}</td>
            <td data-label="by">{{ r.by }}</td>
          </tr>
        </tbody>
      </table>
      <v-empty-state v-else-if="Object.values(q).some(Boolean)" title="No run is like that" text="Take something out of the selection." />
      <v-empty-state v-else title="No run yet" text="A run is a backup, a write or a restore of one unit. It begins at a link." />
      <PageTurner v-if="runs.length > 10" :pages="pages" :size="size" :shown="runs.length" called="runs" one="{1} run" many="{1} runs" over="more than {1} runs" />
    </template>
    <v-skeleton-loader v-else type="table-tbody" color="background" />
  </div>
</template>

<style scoped>
.filters { margin: 16px 0 8px; }
.filters > :deep(.v-input) { flex: 1 1 150px; min-width: 150px; }
</style>
