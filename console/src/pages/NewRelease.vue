<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, problem, send, type Model, type ModelPage, type Problem } from '../api/client'
import { allModels } from '../lists'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { cap } from '../words'

const router = useRouter()
const models = ref<Model[]>([])
const sheet = ref<ModelPage | null>(null)
const model = ref('')
const trouble = ref<Problem | null>(null)
const busy = ref(false)
const form = ref({ version: '', number: '', channel: 'stable' as 'stable' | 'candidate', cures: '', changes: '', supersedes: '', floor: '', from: '', origin: '', accept: '' })
const fits = ref<Record<string, string[]>>({})
const parts = ref<{ name: string; file: File | null; address: string }[]>([{ name: 'program', file: null, address: '' }])

allModels().then((all) => (models.value = all))
watch(model, async (m) => {
  const { data } = await api.GET('/api/models/{model}', { params: { path: { model: m } } })
  sheet.value = data ?? null
  fits.value = Object.fromEntries(Object.keys(data?.facts ?? {}).map((k) => [k, []]))
})
const asked = computed(() => Object.entries(sheet.value?.facts ?? {}).filter(([, f]) => f.values.length))
const ready = computed(() => model.value && form.value.version && parts.value.every((p) => p.name && p.file))
const list = (s: string) => s.split(',').map((x) => x.trim()).filter(Boolean)

async function add() {
  busy.value = true
  trouble.value = null
  try {
    const sent = []
    for (const p of parts.value) {
      const raw = p.address !== ''
      const im = await send<{ sha256: string; format: string }>(`/api/images?name=${encodeURIComponent(p.file!.name)}&address=${raw ? BigInt(p.address).toString() : 0}`, p.file!)
      sent.push({ name: p.name, image: im.sha256, format: im.format, ...(raw && { address: Number(BigInt(p.address)) }) })
    }
    const f = form.value
    const { data, error } = await api.POST('/api/releases', {
      body: {
        model: model.value, version: f.version, number: f.number, channel: f.channel, cures: f.cures, changes: f.changes, supersedes: list(f.supersedes), floor: f.floor, accept: f.accept,
        fits: Object.fromEntries(Object.entries(fits.value).filter(([, v]) => v.length)),
        rules: f.from ? [{ fact: 'running', atLeast: f.from }] : [],
        ...(f.origin && { origin: { from: f.origin } }),
        parts: sent,
      },
    })
    if (error) throw error
    router.push(`/releases/${data.id}`)
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}
</script>

<template>
  <div class="page narrow">
    <h1>Add a release</h1>
    <p v-if="!session.may('lead')" class="lead">A lead adds releases; ask one.</p>
    <form v-else class="form" @submit.prevent="add">
      <v-select v-model="model" :items="models.map((m) => ({ title: m.name, value: m.model }))" label="Model" data-model />
      <div class="two"><v-text-field v-model="form.version" label="Version" class="mono" data-version /><v-text-field v-model="form.number" label="Part number" class="mono" /></div>
      <v-select v-model="form.channel" :items="[{ title: 'Stable', value: 'stable' }, { title: 'Candidate, on trial', value: 'candidate' }]" label="Channel" />
      <v-text-field v-model="form.cures" label="Why it exists: the complaint that it cures" data-cures />
      <v-text-field v-model="form.changes" label="What will look different afterwards" />
      <h2>Parts, in the order of writing</h2>
      <div v-for="(p, i) in parts" :key="i" class="three">
        <v-text-field v-model="p.name" label="Part" /><v-file-input label="File" variant="outlined" density="comfortable" hide-details prepend-icon="" @update:model-value="p.file = ($event as File) ?? null" /><v-text-field v-model="p.address" label="At, for raw binary" class="mono" data-at />
      </div>
      <div><v-btn variant="text" @click="parts.push({ name: '', file: null, address: '' })">One more part</v-btn></div>
      <template v-if="asked.length">
        <h2>Which units it fits</h2>
        <fieldset v-for="[name, f] in asked" :key="name"><legend>{{ cap(name.replaceAll('-', ' ')) }} <span class="small muted">none ticked: any</span></legend><label v-for="v in f.values" :key="v" class="tick"><input v-model="fits[name]" type="checkbox" :value="v" /> {{ v }}</label></fieldset>
      </template>
      <h2>Before and after</h2>
      <div class="two"><v-text-field v-model="form.supersedes" label="Supersedes (versions, by comma)" class="mono" /><v-text-field v-model="form.from" label="Reached from at least" class="mono" /></div>
      <div class="two"><v-text-field v-model="form.floor" label="Afterwards nothing older than" class="mono" /><v-text-field v-model="form.origin" label="Where the files came from" /></div>
      <v-text-field v-model="form.accept" label="Vouch for it by your name, and say why (or sign it later)" data-accept />
      <Trouble v-if="trouble" :problem="trouble" />
      <div><v-btn type="submit" color="primary" :loading="busy" :disabled="!ready" data-add>Add it</v-btn></div>
    </form>
  </div>
</template>

<style scoped>
.narrow { max-width: 860px; }
.form { display: grid; gap: 14px; margin-top: 16px; }
.two { display: grid; grid-template-columns: 1fr 1fr; gap: 12px; }
.three { display: grid; grid-template-columns: 1fr 2fr 1fr; gap: 12px; }
fieldset { border: 1px solid var(--line); border-radius: 4px; padding: 8px 16px; display: flex; flex-wrap: wrap; gap: 4px 20px; }
legend { font-weight: 700; padding: 0 6px; }
.tick { min-height: 44px; display: inline-flex; align-items: center; gap: 8px; }
.tick input { width: 22px; height: 22px; accent-color: rgb(var(--v-theme-primary)); }
@media (max-width: 600px) { .two, .three { grid-template-columns: 1fr; } }
</style>
