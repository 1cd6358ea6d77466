<script setup lang="ts">
import { mdiFileSearchOutline, mdiKeyOutline, mdiPackageVariantClosed, mdiPlus, mdiToolboxOutline } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, problem, send, type Model, type Problem, type Release, type Target } from '../api/client'
import { allModels, allTargets } from '../lists'
import PageTurner from '../parts/PageTurner.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import { newest } from '../newest'
import { usePages } from '../pages'
import { session } from '../session'
import { channels, kib, say, sayOf, when } from '../words'

const route = useRoute()
const router = useRouter()
const models = ref<Model[]>([])
const releases = ref<Release[]>([])
const targets = ref<Target[]>([])
const names = computed(() => Object.fromEntries(models.value.map((m) => [m.model, m.name])))
const pages = usePages(load)
const size = 25
const loading = ref(false)
const trouble = ref<Problem | null>(null)
const done = ref('')
const words = ref(String(route.query.q ?? ''))
const model = ref(String(route.query.model ?? ''))
const headers = [
  { title: 'Release', key: 'version', sortable: false },
  { title: 'Model', key: 'model', sortable: false },
  { title: 'State', key: 'channel', sortable: false },
  { title: 'Fits', key: 'fits', sortable: false },
  { title: 'Cures', key: 'cures', sortable: false },
] as const

const latest = newest()
async function load() {
  const still = latest()
  loading.value = true
  try {
    const { data, error } = await api.GET('/api/releases', { params: { query: { q: words.value ?? '', model: model.value ?? '', after: pages.after.value, size } } })
    if (error) throw error
    if (!still()) return
    releases.value = data.releases
    pages.take(data)
    trouble.value = null
  } catch (e) {
    trouble.value = problem(e)
  }
  loading.value = false
}
async function loadModels() {
  models.value = await allModels()
  targets.value = await allTargets().catch(() => targets.value)
}
loadModels()

let pause = 0
watch([words, model], () => {
  pages.begin()
  clearTimeout(pause)
  pause = window.setTimeout(load, 200)
  router.replace({ query: { ...(words.value && { q: words.value }), ...(model.value && { model: model.value }) } })
})

async function take(e: Event, path: string, method: string, say: (x: never) => string) {
  const input = e.target as HTMLInputElement
  const file = input.files?.[0]
  if (!file) return
  trouble.value = null
  try {
    done.value = say((await send(path, file, method)) as never)
    await Promise.all([loadModels(), load()])
  } catch (x) {
    trouble.value = problem(x)
  }
  input.value = ''
}
const packTaken = (x: { series: string; number: number; by?: string; new: number; releases: unknown[] }) => say('Pack {1} of series {2}, signed by {3}: {4} of {5} releases are new.', x.number, x.series, x.by, x.new, x.releases.length)
const sheetTaken = (x: { model: string }) => say('The sheet of {1} is in force.', x.model)
const fits = (r: Release) => Object.entries(r.fits ?? {}).map(([k, v]) => `${k} ${(v ?? []).join(', ')}`).join('; ')
</script>

<template>
  <div class="page">
    <div class="row spread">
      <h1>Releases</h1>
      <div class="row">
        <v-btn variant="outlined" to="/inspect" :prepend-icon="mdiFileSearchOutline">What is in a file?</v-btn>
        <v-btn variant="outlined" to="/gear" :prepend-icon="mdiToolboxOutline">Gear</v-btn>
        <v-btn variant="outlined" to="/keys" :prepend-icon="mdiKeyOutline">Keys</v-btn>
      </div>
    </div>
    <section class="models" aria-label="Models">
      <router-link v-for="m in models" :key="m.model" :to="`/models/${m.model}`" class="model">
        <strong>{{ m.name }}</strong><span class="small muted">{{ m.kind }}, {{ kib(m.bytes) }}</span>
        <span class="small"><Says text="{1} newest of {2} · {3}" :put="{ 2: m.releases, 3: sayOf('{1} unit', '{1} units', m.units) }"><template #1><strong class="mono">{{ m.newest || 'no release' }}</strong></template></Says></span>
      </router-link>
    </section>
    <p v-if="targets.length" class="targets"><Says text="Our choice: {1}. For everything else the newest stable release that fits."><template #1><template v-for="(t, i) in targets" :key="t.model + t.revision"><template v-if="i">, </template>{{ names[t.model] ?? t.model }} {{ t.revision }} <router-link :to="`/releases/${t.release}`" class="mono">{{ t.version }}</router-link> <strong v-if="t.withdrawn" class="brick">(withdrawn: choose another)</strong></template></template></Says></p>
    <div v-if="session.may('lead')" class="row lead-row">
      <v-btn color="primary" to="/releases/new" :prepend-icon="mdiPlus">Add a release…</v-btn>
      <label class="file"><v-icon :icon="mdiPackageVariantClosed" /> Take in a release pack…<input type="file" accept=".zip" class="out" data-pack @change="take($event, '/api/packs', 'POST', packTaken)" /></label>
      <label class="file"><v-icon :icon="mdiPlus" /> Put a model sheet in force…<input type="file" accept=".yaml,.yml" class="out" @change="take($event, '/api/models', 'PUT', sheetTaken)" /></label>
    </div>
    <v-alert v-if="done" variant="outlined" type="success" class="done" role="status">{{ done }}</v-alert>
    <Trouble v-if="trouble" :problem="trouble" />
    <div class="row filters">
      <v-text-field v-model="words" label="Version, part number, complaint, fact, SHA-256" clearable class="words" data-find @click:clear="words = ''" />
      <v-select v-model="model" :items="[{ title: 'All models', value: '' }, ...models.map((m) => ({ title: m.name, value: m.model }))]" label="Model" class="pick" />
    </div>
    <v-data-table-server :items-per-page="size" class="table" :headers="headers" :items="releases" :items-length="releases.length" :loading="loading" hide-default-footer :mobile-breakpoint="700" @update:options="load">
      <template #[`item.version`]="{ item }"><router-link class="mono version" :to="`/releases/${item.id}`" :class="{ gone: item.withdrawn }">{{ item.version }}</router-link><div class="small muted">{{ item.number }}</div></template>
      <template #[`item.channel`]="{ item }"><span v-if="item.withdrawn" class="brick"><strong>withdrawn</strong></span><span v-else>{{ channels[item.channel] }}</span><div class="small muted">{{ when(item.at) }}</div></template>
      <template #[`item.fits`]="{ item }"><span class="small">{{ fits(item) }}</span></template>
      <template #[`item.cures`]="{ item }">{{ item.withdrawn ? item.withdrawn.reason : item.cures?.en }}</template>
      <template #no-data>
        <v-empty-state v-if="words || model" title="No release is like that" text="Search by the beginning of a version or part number, or by words of the complaint." />
        <v-empty-state v-else title="No release yet" text="Put a model sheet in force, then take in a pack or add a release." />
      </template>
    </v-data-table-server>
    <PageTurner v-if="releases.length" :pages="pages" :size="size" :shown="releases.length" called="releases" one="{1} release" many="{1} releases" over="more than {1} releases" />
  </div>
</template>

<style scoped>
.models { display: grid; grid-template-columns: repeat(auto-fill, minmax(230px, 1fr)); gap: 12px; margin: 16px 0; }
.model { display: grid; gap: 2px; align-content: start; padding: 12px 16px; border: 1px solid var(--line); border-radius: 8px; background: rgb(var(--v-theme-surface)); text-decoration: none; color: inherit; }
.model > strong:first-child { font-size: 18px; color: rgb(var(--v-theme-primary)); text-decoration: underline; text-underline-offset: 3px; }
.targets { margin-bottom: 16px; }
.lead-row { margin-bottom: 16px; }
.file { min-height: 48px; display: inline-flex; align-items: center; gap: 8px; padding: 0 16px; border: 1.5px solid currentColor; border-radius: 4px; font-weight: 700; cursor: pointer; }
.file:focus-within { outline: 3px solid rgb(var(--v-theme-primary)); outline-offset: 2px; }
.filters { margin-top: 8px; }
.words { max-width: 460px; min-width: 240px; }
.pick { max-width: 220px; min-width: 160px; }
.table { background: none; margin-top: 12px; }
.version { font-weight: 600; display: inline-block; padding-top: 8px; }
.gone { text-decoration: line-through; }
.done { margin-bottom: 16px; background: rgb(var(--v-theme-surface)); }
</style>
