<script setup lang="ts">
import { mdiCheckCircle, mdiCircleHalfFull, mdiCircleOffOutline, mdiCircleOutline, mdiFerry } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, problem, type Problem, type Unit } from '../api/client'
import { allModels } from '../lists'
import EnterUnits from '../parts/EnterUnits.vue'
import TrayForm from '../parts/TrayForm.vue'
import PageTurner from '../parts/PageTurner.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import { newest } from '../newest'
import { usePages } from '../pages'
import { session } from '../session'
import { say, standings, when } from '../words'

const route = useRoute()
const router = useRouter()
const units = ref<Unit[]>([])
const loading = ref(false)
const judging = ref(false) // units are still being judged by what has changed
const trouble = ref<Problem | null>(null)
const words = ref(String(route.query.q ?? ''))
const state = ref(String(route.query.state ?? ''))
const model = ref(String(route.query.model ?? ''))
const size = 25
const pages = usePages(load)
const models = ref<{ title: string; value: string }[]>([{ title: 'All models', value: '' }])
const states = [
  { title: 'All states', value: '' },
  { title: 'Run open', value: 'open' },
  { title: 'Half done', value: 'half-done' },
  { title: 'Not proven', value: 'not-proven' },
  { title: 'Public default', value: 'public-default' },
  { title: 'Behind', value: 'behind' },
  { title: 'On a withdrawn release', value: 'withdrawn' },
  { title: 'No backup', value: 'no-backup' },
  { title: 'Last run well', value: 'done' },
  { title: 'No run yet', value: 'known' },
]
const headers = [
  { title: 'Unit', key: 'serial', sortable: false },
  { title: 'Model', key: 'modelName', sortable: false },
  { title: 'Rev', key: 'revision', sortable: false },
  { title: 'Runs', key: 'running', sortable: false },
  { title: 'State', key: 'state', sortable: false },
  { title: 'Site', key: 'site', sortable: false },
  { title: 'Seen', key: 'seen', sortable: false },
] as const

// The release that most of those shown are due.
const due = computed(() => {
  const n = new Map<string, number>()
  for (const u of units.value) if (u.due) n.set(u.due, (n.get(u.due) ?? 0) + 1)
  return [...n].sort((a, b) => b[1] - a[1])[0]?.[0]
})
const latest = newest()
async function load() {
  const still = latest()
  loading.value = true
  try {
    const query = { q: words.value, after: pages.after.value, size, ...(model.value ? { model: model.value } : {}), ...(state.value ? { state: state.value as 'open' } : {}) }
    const { data, error } = await api.GET('/api/units', { params: { query } })
    if (error) throw error
    if (!still()) return
    units.value = data.units
    judging.value = !!data.judging
    pages.take(data)
    trouble.value = null
  } catch (e) {
    trouble.value = problem(e)
  }
  loading.value = false
}

allModels().then((all) => all.forEach((m) => models.value.push({ title: m.name, value: m.model })))
let pause = 0
watch([words, state, model], () => {
  pages.begin()
  clearTimeout(pause)
  pause = window.setTimeout(load, 200)
  router.replace({ query: { ...(words.value && { q: words.value }), ...(state.value && { state: state.value }), ...(model.value && { model: model.value }) } })
})
watch(() => route.query.q, (q) => (words.value = String(q ?? '')))

function mark(u: Unit): [string, string, string] {
  if (u.run) return [mdiFerry, 'run open', 'primary']
  if (u.state === 'half-done') return [mdiCircleHalfFull, standings['half-done']!, 'error']
  if (u.state === 'not-proven') return [mdiCircleOffOutline, standings['not-proven']!, '']
  if (u.state === 'done') return [mdiCheckCircle, standings.done!, 'secondary']
  return [mdiCircleOutline, standings[u.state] ?? u.state, '']
}
</script>

<template>
  <div class="page">
    <div class="row spread">
      <h1>Units</h1>
      <router-link to="/sites">Sites</router-link>
      <TrayForm v-if="state === 'behind' && model && units.length && session.may('technician')" :model="model" :release="due" behind @open="(t) => router.push(`/trays/${t.id}`)" />
      <EnterUnits v-if="session.may('technician')" :models="models" @entered="load" />
      <div class="row filters">
        <v-text-field v-model="words" label="Serial, site, model or version" clearable class="words" @click:clear="words = ''" />
        <v-select v-model="model" :items="models" label="Model" class="pick" />
        <v-select v-model="state" :items="states" label="State" class="pick" />
      </div>
    </div>
    <p v-if="judging" class="muted" role="status">Something has changed since, and units are still being judged by it.</p>
    <Trouble v-if="trouble" :problem="trouble" />
    <v-data-table-server v-else :items-per-page="size" class="table" :headers="headers" :items="units" :items-length="units.length" :loading="loading" hide-default-footer mobile-breakpoint="sm" @update:options="load">
      <template #[`item.serial`]="{ item }"><router-link class="mono serial" :to="`/units/${item.id}`">{{ item.serial }}</router-link></template>
      <template #[`item.revision`]="{ item }">{{ item.revision || '?' }}</template>
      <template #[`item.running`]="{ item }"><span class="mono">{{ item.state === 'half-done' ? 'partly written' : item.running || '?' }}</span> <strong v-if="item.withdrawn" class="small brick" :title="item.withdrawn">withdrawn</strong><span v-if="item.due" class="small" :title="say('Release {1} should be in it.', item.due)">, <Says text="due {1}"><template #1><span class="mono">{{ item.due }}</span></template></Says></span> <span v-if="item.held" class="small muted" :title="item.held.reason">{{ say('held at {1}', item.held.version) }}</span></template>
      <template #[`item.state`]="{ item }">
        <router-link v-if="item.run" :to="`/runs/${item.run}`" class="state"><v-icon :icon="mark(item)[0]" size="20" /> {{ mark(item)[1] }}</router-link>
        <span v-else class="state"><v-icon :icon="mark(item)[0]" :color="mark(item)[2]" size="20" /> {{ mark(item)[1] }}</span>
      </template>
      <template #[`item.seen`]="{ item }"><span class="small">{{ when(item.seen) }}</span></template>
      <template #no-data>
        <v-empty-state v-if="pages.next.value" title="None among the units that were looked through" text="The arrow looks further." />
        <v-empty-state v-else-if="words || state || model" title="No unit is like that" text="Search by the beginning or the end of the serial or a part of it, by words of site, customer or note, by the model or the version." />
        <v-empty-state v-else title="No unit yet" text="Enter one, or read one on a link, and it stands here." action-text="To the links" to="/benches" />
      </template>
    </v-data-table-server>
    <PageTurner v-if="!trouble && (units.length || pages.next.value)" :pages="pages" :size="size" :shown="units.length" called="units" one="{1} unit" many="{1} units" over="more than {1} units" />
  </div>
</template>

<style scoped>
.filters { flex: 1; justify-content: flex-end; }
.words { max-width: 320px; min-width: 220px; }
.pick { max-width: 190px; min-width: 150px; }
@media (max-width: 600px) { .words { max-width: none; flex-basis: 100%; } }
.table { background: none; margin-top: 16px; }
.serial { font-weight: 600; display: inline-block; padding: 10px 0; }
.state { display: inline-flex; gap: 6px; align-items: center; vertical-align: middle; white-space: nowrap; }
</style>
