<script setup lang="ts">
// What is in a firmware file, how two differ, and the same in another format.
import { mdiCheckCircle, mdiCloseCircle, mdiFileSwapOutline, mdiTrayArrowDown } from '@mdi/js'
import { computed, ref } from 'vue'

import { problem, send, type Difference, type Inspection, type Problem } from '../api/client'
import AddressLine from '../parts/AddressLine.vue'
import DiffStrip from '../parts/DiffStrip.vue'
import DigestText from '../parts/DigestText.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import { formats, grouped, hex, kib, say, sayOf } from '../words'

const file = ref<File | null>(null)
const other = ref<File | null>(null)
const at = ref('0x0')
const x = ref<Inspection | null>(null)
const difference = ref<Difference | null>(null)
const trouble = ref<Problem | null>(null)
const busy = ref(false)
const over = ref(false)
const to = ref('intel-hex')
const lost = ref<{ text: string }[] | null>(null)
const address = computed(() => (/^(0x[0-9a-f]+|\d+)$/i.test(at.value) ? BigInt(at.value).toString() : '0'))

async function look(f: File | undefined | null) {
  if (!f) return
  file.value = f
  x.value = difference.value = null
  other.value = null
  lost.value = null
  trouble.value = null
  busy.value = true
  try {
    x.value = await send<Inspection>(`/api/images/inspect?name=${encodeURIComponent(f.name)}&address=${address.value}`, f)
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}

async function compare(f: File | undefined | null) {
  if (!f || !file.value) return
  other.value = f
  trouble.value = null
  try {
    const body = new Blob([file.value, f])
    difference.value = await send<Difference>(`/api/images/diff?first=${file.value.size}&nameA=${encodeURIComponent(file.value.name)}&nameB=${encodeURIComponent(f.name)}&address=${address.value}`, body)
  } catch (e) {
    trouble.value = problem(e)
  }
}

async function convert() {
  trouble.value = null
  const r = await fetch(`/api/images/convert?to=${to.value}&name=${encodeURIComponent(file.value!.name)}&address=${address.value}`, { method: 'POST', body: file.value, headers: { 'Content-Type': 'application/octet-stream' } })
  if (!r.ok) {
    trouble.value = problem(await r.json())
    return
  }
  lost.value = JSON.parse(r.headers.get('Ferry-Lost') ?? '[]')
  const ends: Record<string, string> = { 'intel-hex': '.hex', 's-record': '.s19', raw: '.bin', 'address-text': '.txt', uf2: '.uf2', dfu: '.dfu' }
  const a = document.createElement('a')
  a.href = URL.createObjectURL(await r.blob())
  a.download = file.value!.name.replace(/\.[^.]*$/, '') + ends[to.value]
  a.click()
  URL.revokeObjectURL(a.href)
}
const picked = (e: Event) => (e.target as HTMLInputElement).files?.[0]
const heading = computed(() => (x.value ? sayOf('{2}, {3} bytes in {1} segment', '{2}, {3} bytes in {1} segments', x.value.segments.length, formats[x.value.format], grouped(x.value.payload)) : 'What is in a file?'))
const known = computed(() => x.value?.known?.filter((k) => k.how !== 'nearest') ?? [])
const nearest = computed(() => x.value?.known?.find((k) => k.how === 'nearest'))
</script>

<template>
  <div class="page">
    <h1>{{ heading }}</h1>
    <p v-if="x" class="lead"><Says :text="x.packed ? '{1}, out of a {2}. Nothing of it was kept.' : '{1}. Nothing of it was kept.'" :put="{ 2: x.packed }"><template #1><span class="mono">{{ x.member && x.packed === 'zip' ? `${x.name} › ${x.member}` : x.name }}</span></template></Says></p>
    <div class="row drops">
      <label class="drop" :class="{ over }" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="((over = false), look($event.dataTransfer?.files[0]))">
        <v-icon :icon="mdiTrayArrowDown" size="32" /><span><strong>{{ file ? 'Another file' : 'Drop a firmware file here' }}</strong><br /><span class="small muted">or choose one; also a zip or gzip. At most 64 MiB.</span></span>
        <input type="file" class="out" data-file @change="look(picked($event))" />
      </label>
      <v-text-field v-model="at" label="Address of the first byte, for files that carry none" class="at mono" @change="look(file)" />
    </div>
    <v-progress-linear v-if="busy" indeterminate color="primary" aria-label="Reading the file" />
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-if="x">
      <AddressLine class="gap" :segments="x.segments" :start="x.start" />
      <div class="columns gap">
        <section>
          <h2>Does the catalogue know it?</h2>
          <ul v-if="known.length" class="rows"><li v-for="k in known" :key="k.release + k.part"><v-icon :icon="mdiCheckCircle" class="teal" /> <Says text="{1}, its part {2}" :put="{ 2: k.part }"><template #1><router-link :to="`/releases/${k.release}`"><strong>{{ k.model }} {{ k.version }}</strong></router-link></template></Says><div class="small muted">{{ k.how === 'same-file' ? 'the very file' : 'the same image in another file' }}</div></li></ul>
          <p v-else-if="nearest"><Says text="Not known. Nearest is {1}: {2} of {3} pieces of 4 KiB alike." :put="{ 2: nearest.same, 3: nearest.of }"><template #1><router-link :to="`/releases/${nearest.release}`">{{ nearest.model }} {{ nearest.version }}</router-link></template></Says></p>
          <p v-else>Not known, and nothing in the catalogue is like it.</p>
          <h2 class="gap">Whose memory does it suit?</h2>
          <ul class="rows"><li v-for="m in x.models" :key="m.model"><v-icon :icon="m.inside && !m.bars ? mdiCheckCircle : mdiCloseCircle" :class="m.inside && !m.bars ? 'teal' : 'brick'" /> <strong>{{ m.name }}</strong>, {{ kib(m.memory) }}<div class="small muted">{{ m.bars ? m.bars : m.inside ? say('writes {1}', m.touches.join(', ')) : 'reaches outside of its memory' }}</div></li></ul>
        </section>
        <section>
          <h2>What it holds</h2>
          <dl>
            <dt>SHA-256</dt><dd><DigestText :digest="x.sha256" /></dd>
            <dt>Content</dt><dd><DigestText :digest="x.content" /> <span class="small muted">the same in every format</span></dd>
            <dt>File</dt><dd>{{ say('{1} bytes', grouped(x.bytes)) }}</dd>
            <template v-if="x.start != null"><dt>Entry</dt><dd class="mono">{{ hex(x.start) }}</dd></template>
            <template v-for="n in x.notes" :key="n.name"><dt>{{ n.name }}</dt><dd class="mono">{{ n.value }}</dd></template>
            <template v-for="t in x.versions" :key="t.address"><dt>Says</dt><dd><span class="mono">{{ t.text }}</span> <span class="small muted">{{ say('at {1}', hex(t.address)) }}</span></dd></template>
          </dl>
          <table class="plain"><thead><tr><th>From</th><th>To</th><th>Bytes</th></tr></thead><tbody><tr v-for="s in x.segments.slice(0, 12)" :key="s.address"><td class="mono">{{ hex(s.address) }}</td><td class="mono">{{ hex(s.address + s.length - 1) }}</td><td class="counts">{{ grouped(s.length) }}</td></tr></tbody></table>
          <p v-if="x.segments.length > 12" class="small muted">{{ say('and {1} more', x.segments.length - 12) }}</p>
          <v-alert v-for="w in x.warnings" :key="w.text" variant="outlined" type="warning" class="warn">{{ w.text }}</v-alert>
        </section>
        <section>
          <h2>Compare it</h2>
          <label class="drop small-drop" @dragover.prevent @drop.prevent="compare($event.dataTransfer?.files[0])"><v-icon :icon="mdiFileSwapOutline" /> <strong>{{ other ? other.name : 'with another file' }}</strong><input type="file" class="out" data-other @change="compare(picked($event))" /></label>
          <h2 class="gap">In another format</h2>
          <div class="row nowrap"><v-select v-model="to" :items="Object.entries(formats).filter(([k]) => k !== 'elf').map(([value, title]) => ({ value, title }))" label="Format" /><v-btn variant="outlined" @click="convert">Write it</v-btn></div>
          <p v-if="lost && !lost.length" class="teal small">Nothing was lost.</p>
          <ul v-else-if="lost" class="rows small"><li v-for="l in lost" :key="l.text">{{ say('Lost: {1}', l.text) }}</li></ul>
        </section>
      </div>
      <section v-if="difference && other" class="gap" data-difference>
        <h2>{{ difference.differs + difference.onlyA + difference.onlyB === 0 ? 'The same image' : 'How they differ' }}</h2>
        <DiffStrip :difference="difference" :a="file!.name" :b="other.name" />
        <table v-if="difference.ranges.length" class="plain"><thead><tr><th>At</th><th>Bytes</th><th>{{ file!.name }}</th><th>{{ other.name }}</th></tr></thead><tbody><tr v-for="r in difference.ranges.slice(0, 12)" :key="r.address"><td class="mono">{{ hex(r.address) }}</td><td class="counts">{{ grouped(r.length) }}</td><td class="mono small">{{ r.a || '–' }}</td><td class="mono small">{{ r.b || '–' }}</td></tr></tbody></table>
        <p v-if="difference.ranges.length > 12" class="small muted">{{ say('and {1} more ranges', grouped(difference.ranges.length - 12 + difference.more)) }}</p>
      </section>
    </template>
  </div>
</template>

<style scoped>
.gap { margin-top: 20px; }
.drops { margin-top: 16px; }
.drop { flex: 1; min-width: 280px; min-height: 84px; display: flex; gap: 16px; align-items: center; padding: 12px 20px; border: 1.5px solid var(--outline); border-radius: 8px; background: rgb(var(--v-theme-surface)); cursor: pointer; }
.drop.over { background: rgb(var(--v-theme-tint-blue)); }
.drop:focus-within { outline: 3px solid rgb(var(--v-theme-primary)); outline-offset: 2px; }
.small-drop { min-height: 56px; }
.at { max-width: 330px; min-width: 240px; }
.nowrap { flex-wrap: nowrap; margin-top: 8px; }
dl { display: grid; grid-template-columns: 90px minmax(0, 1fr); gap: 4px 12px; align-items: center; }
dt { color: var(--muted); }
dd { overflow-wrap: anywhere; }
.warn { margin-top: 12px; background: rgb(var(--v-theme-surface)); }
</style>
