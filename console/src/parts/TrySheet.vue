<script setup lang="ts">
// A sheet is played on a real unit: what was said, what came, which pattern took what.
// Nothing is changed unless a lead says so.
import { ref } from 'vue'

import { api, problem, type Problem, type Tried } from '../api/client'
import { allLinks } from '../lists'
import { session } from '../session'
import { say } from '../words'
import Trouble from './Trouble.vue'

const props = defineProps<{ text: string; link?: string }>()
const emit = defineEmits<{ changed: [] }>()
const sheet = ref(props.text)
const at = ref(props.link ?? '')
const write = ref(false)
const links = ref<string[]>([])
const tried = ref<Tried | null>(null)
const wrong = ref<Problem | null>(null)
const busy = ref(false)

allLinks().then((all) => { links.value = all.filter((l) => l.state !== 'offline').map((l) => `${l.bench}/${l.name}`) }, () => {})

async function go() {
  busy.value = true
  wrong.value = tried.value = null
  const { data, error } = await api.POST('/api/try', { body: { at: at.value, sheet: sheet.value, ...(write.value && { write: true }) } })
  busy.value = false
  if (error) wrong.value = problem(error)
  else {
    tried.value = data
    if (data.proven) emit('changed')
  }
}
const first = (i: number) => i === 0 || tried.value!.turns[i]!.exchange !== tried.value!.turns[i - 1]!.exchange
const visible = (s: string) => (s.trim() ? s : s.replaceAll(' ', '(space)')).replaceAll('\r', '\\r').replaceAll('\n', '\\n').replaceAll('\u001b', '\\x1b')
const recording = () => URL.createObjectURL(new Blob([tried.value!.recording], { type: 'text/plain' }))
</script>

<template>
  <section data-try>
    <h2>Try it on a unit</h2>
    <p class="small muted">The unit is brought into its loader and asked who it is; settings, files and the first bytes of its memory are read. Nothing is changed.</p>
    <form class="try" @submit.prevent="go">
      <div class="where"><v-autocomplete v-model="at" :items="links" label="Link" hide-details data-field="at" /><v-btn type="submit" variant="flat" color="primary" size="large" :disabled="!at" :loading="busy" data-try-go>{{ write ? 'Try it, and write back a sector' : 'Try it' }}</v-btn></div>
      <v-checkbox v-if="session.may('lead')" v-model="write" hide-details label="Also erase the last sector that the program may fill, and write back what it held (the bench keeps it until then)" />
      <v-textarea v-model="sheet" label="The sheet" class="text" rows="8" spellcheck="false" />
    </form>
    <Trouble v-if="wrong" :problem="wrong" />
    <div v-if="tried" class="result" data-tried>
      <div class="sides"><ul class="rows"><li v-for="d in tried.did" :key="d.what"><strong :class="{ brick: d.error }">{{ d.error ? '✗' : d.left ? '–' : '✓' }} {{ d.what }}</strong><div class="small" :class="{ brick: d.error }">{{ d.error || d.came }}</div></li></ul>
      <table v-if="tried.facts.length" class="plain"><tbody><tr v-for="f in tried.facts" :key="f.name"><td class="muted">{{ f.name }}</td><td><strong>{{ f.value }}</strong></td></tr></tbody></table></div>
      <div v-if="tried.turns.length" class="talk mono small" role="log" aria-label="What was said and heard">
        <template v-for="(x, i) in tried.turns" :key="i">
          <h3 v-if="first(i)">{{ x.exchange }}</h3>
          <div v-if="x.said">→ {{ visible(x.said) }}</div>
          <div v-for="(h, k) in x.heard" :key="k">← {{ visible(h) }}</div>
          <div v-if="x.wanted" class="muted">{{ x.wanted }} <template v-for="(v, name) in x.parts" :key="name"><strong class="part">{{ name }}: {{ v }}</strong> </template><template v-if="(x.rows ?? 0) > 1">{{ say('and {1} more lines', x.rows! - 1) }}</template></div>
          <div v-if="x.error" class="brick">✗ {{ x.error }}</div>
        </template>
      </div>
      <a v-if="tried.recording" :href="recording()" :download="`${tried.model}.rec`">Keep what was said, as a recording</a>
    </div>
  </section>
</template>

<style scoped>
.try { display: grid; gap: 12px; }
.where { display: flex; gap: 12px; align-items: center; max-width: 640px; }
.text :deep(textarea) { font-family: var(--mono, monospace); font-size: 0.875rem; line-height: 1.45; }
.result { display: grid; gap: 16px; margin-top: 16px; }
.talk { background: rgb(var(--v-theme-surface)); border: 1px solid var(--line); border-radius: 8px; padding: 12px 16px; max-height: 480px; overflow: auto; }
.talk h3 { font: inherit; font-weight: 700; margin-top: 10px; }
.result > .sides { display: grid; grid-template-columns: repeat(auto-fit, minmax(320px, 1fr)); gap: 24px; align-items: start; }
.part { margin-right: 12px; color: rgb(var(--v-theme-primary)); }
</style>
