<script setup lang="ts">
// What was done to a unit, what was not, and what whoever has it next does first.
import { mdiArrowRight, mdiCheckCircle, mdiEyeOutline, mdiMinusCircleOutline, mdiPrinterOutline } from '@mdi/js'
import { ref } from 'vue'

import { api, problem, type HandOver, type Problem } from '../api/client'
import NextSteps from '../parts/NextSteps.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import { listed, say, sentence, when } from '../words'

const props = defineProps<{ unit: string }>()
const note = ref<HandOver | null>(null)
const trouble = ref<Problem | null>(null)

async function load() {
  try {
    const { data, error } = await api.GET('/api/units/{unit}/handover', { params: { path: { unit: props.unit } } })
    if (error) throw error
    note.value = data
  } catch (e) {
    trouble.value = problem(e)
  }
}
load()
</script>

<template>
  <div class="page">
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-else-if="note">
      <div class="row spread">
        <div><h1><Says text="Hand-over of {1}"><template #1><router-link :to="`/units/${note.unit}`" class="mono">{{ note.unit }}</router-link></template></Says></h1><p class="muted">{{ listed(note.modelName, note.site, note.running ? say('runs {1}', note.running) : 'nobody knows what it runs') }}. <template v-if="note.job">{{ say('Job {1}: {2}', note.job, sentence(note.why)) }}</template></p></div>
        <v-btn variant="outlined" :prepend-icon="mdiPrinterOutline" :href="`/api/units/${note.unit}/handover.pdf`" target="_blank" data-print>Print it</v-btn>
      </div>
      <div class="columns note">
        <section data-done>
          <h2>Done</h2>
          <ul class="rows"><li v-for="s in note.done" :key="s.text" class="line"><v-icon :icon="mdiCheckCircle" class="teal" size="20" /> <span>{{ s.text }}</span></li></ul>
          <p v-if="!note.done.length" class="muted">No run of it is closed yet.</p>
        </section>
        <section data-not-done>
          <h2>Not done</h2>
          <ul class="rows"><li v-for="s in note.notDone" :key="s.text" class="line"><v-icon :icon="mdiMinusCircleOutline" class="brick" size="20" /> <span>{{ s.text }}</span></li></ul>
          <p v-if="!note.notDone.length" class="muted">Nothing is left undone.</p>
        </section>
        <section data-next>
          <h2>What comes next</h2>
          <ol class="rows"><li v-for="l in note.following" :key="l.text" class="line"><v-icon :icon="mdiArrowRight" size="20" /> <span>{{ l.text }}<NextSteps :todo="l" class="small" /></span></li></ol>
          <p v-if="!note.following.length" class="muted">Nothing: it may go back to work.</p>
        </section>
      </div>
      <template v-if="note.offers.length">
        <h2 class="gap">Seen, and not ordered</h2>
        <ul class="rows" data-offers><li v-for="o in note.offers" :key="o.number" class="line"><v-icon :icon="mdiEyeOutline" size="20" /> <span>{{ o.says }} <span class="small muted">{{ o.by }}, {{ when(o.at) }}</span> <a v-if="o.photo" :href="`/api/evidence/${o.photo}`" target="_blank">picture</a></span></li></ul>
      </template>
      <template v-if="note.photos.length">
        <h2 class="gap">As found, as left</h2>
        <div v-for="p in note.photos" :key="p.says" class="pair"><span>{{ p.says }}</span><figure v-for="x in [{ name: 'as found', d: p.found }, { name: 'as left', d: p.left }]" :key="x.name"><figcaption class="small muted">{{ x.name }}</figcaption><a v-if="x.d" :href="`/api/evidence/${x.d}`" target="_blank"><img :src="`/api/evidence/${x.d}`" :alt="`${p.says} ${x.name}`" loading="lazy" /></a><span v-else class="muted">none</span></figure></div>
      </template>
    </template>
    <v-skeleton-loader v-else type="article, article" color="background" />
  </div>
</template>

<style scoped>
.note { margin-top: 20px; }
.line { display: grid; grid-template-columns: 24px 1fr; gap: 8px; align-items: start; }
ol { padding-left: 0; }
.gap { margin-top: 24px; }
.pair { display: grid; grid-template-columns: 1fr 1fr 1fr; gap: 16px; padding: 12px 0; border-bottom: 1px solid var(--line); }
img { width: 100%; max-width: 320px; aspect-ratio: 4 / 3; object-fit: cover; border: 1px solid var(--line); border-radius: 4px; }
@media (max-width: 600px) { .pair { grid-template-columns: 1fr 1fr; } .pair > span { grid-column: 1 / -1; } }
</style>
