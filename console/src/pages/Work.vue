<script setup lang="ts">
// From what is plugged in to the one question before the write.
import { mdiArrowRight, mdiHandBackRight } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, problem, type Backup, type Fit, type Identity, type Problem, type Strip, type UnitPage } from '../api/client'
import DigestText from '../parts/DigestText.vue'
import LineOfStops from '../parts/LineOfStops.vue'
import SectorStrip from '../parts/SectorStrip.vue'
import type { Stop } from '../parts/stops'
import Trouble from '../parts/Trouble.vue'
import UnitPlate from '../parts/UnitPlate.vue'
import VerdictTag from '../parts/VerdictTag.vue'
import { factNames, kib, sources, verdicts, when } from '../words'

const props = defineProps<{ bench: string; link: string }>()
const route = useRoute()
const router = useRouter()
const at = `${props.bench}/${props.link}`
const identity = ref<Identity | null>(null)
const unit = ref<UnitPage | null>(null)
const strip = ref<Strip | null>(null)
const chosen = ref('')
const trouble = ref<Problem | null>(null)
const busy = ref(false)
const label = ref('')
const restoring = computed(() => String(route.query.backup ?? ''))

const fit = computed<Fit | null>(() => unit.value?.fit ?? null)
const verdict = computed(() => fit.value?.verdicts.find((v) => v.release === chosen.value))
const backup = computed<Backup | undefined>(() => unit.value?.backups.find((b) => b.id === restoring.value))
const stage = computed(() => (!identity.value ? 0 : restoring.value || verdict.value?.verdict === 'fits' ? 2 : 1))
const disagree = computed(() => identity.value?.disagree ?? [])

const stops = computed<Stop[]>(() => {
  const facts = identity.value?.facts
  const out: Stop[] = [
    { key: 'i', word: 'Identify', fact: facts ? `rev ${facts.revision?.value ?? '?'}, runs ${facts.running?.value ?? '?'}` : 'asking the unit', state: 'ahead' },
    { key: 'f', word: 'Fit', fact: fit.value?.question ? '1 question left' : verdict.value ? `${verdict.value.version} ${verdicts[verdict.value.verdict]}` : 'by itself', hand: !!fit.value?.question, state: 'ahead' },
    { key: 'c', word: 'Card', fact: 'your turn', hand: true, state: 'ahead' },
    { key: 'b', word: 'Backup', fact: 'by itself', state: 'ahead' },
    { key: 'w', word: 'Flash', fact: 'by itself', state: 'ahead' },
    { key: 'v', word: 'Verify', fact: 'by itself', state: 'ahead' },
    { key: 'o', word: 'Close-out', fact: 'by itself', state: 'ahead' },
  ]
  out.forEach((s, i) => (s.state = i < stage.value ? 'done' : i === stage.value ? 'now' : 'ahead'))
  return restoring.value ? out.filter((s) => s.key !== 'f') : out
})

async function begin() {
  trouble.value = null
  identity.value = null
  try {
    const { data, error } = await api.POST('/api/identify', { body: label.value ? { at, label: label.value } : { at } })
    if (error) throw error
    identity.value = data
    await judge()
  } catch (e) {
    const p = problem(e)
    // A half-done unit has a run of its own: that is where to go on.
    if (p.kind === 'busy' && !restoring.value) {
      const { data } = await api.GET('/api/links')
      const run = data?.links.find((l) => l.link === at)?.run
      if (run) return router.replace(`/runs/${run}`)
    }
    trouble.value = p
  }
}

async function judge() {
  if (!identity.value?.unit) return
  const path = { params: { path: { unit: identity.value.unit } } }
  const { data, error } = await api.GET('/api/units/{unit}', path)
  if (error) throw error
  unit.value = data
  chosen.value = data.fit?.verdicts.find((v) => v.recommended)?.release ?? data.fit?.verdicts[0]?.release ?? ''
  look()
}

async function look() {
  strip.value = null
  if (!unit.value || restoring.value || !chosen.value) return
  const { data } = await api.GET('/api/units/{unit}/memory', { params: { path: { unit: unit.value.id }, query: { release: chosen.value } } })
  strip.value = data && data.sectors.length ? data : null
}

async function answer(fact: string, value: string, source: 'person' | 'label') {
  busy.value = true
  try {
    const { error } = await api.POST('/api/units/{unit}/facts', { params: { path: { unit: unit.value!.id } }, body: { facts: [{ name: fact, value, source }] } })
    if (error) throw error
    identity.value!.disagree = []
    await judge()
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}

async function go() {
  busy.value = true
  trouble.value = null
  try {
    const body = restoring.value ? { kind: 'restore' as const, at, backup: restoring.value } : { kind: 'flash' as const, at, release: chosen.value, again: verdict.value?.current ?? false }
    const { data, error } = await api.POST('/api/runs', { body: label.value ? { ...body, label: label.value } : body })
    if (error) throw error
    router.push(`/runs/${data.id}`)
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}

onMounted(begin)
</script>

<template>
  <LineOfStops :stops="stops" />
  <hr class="rule" />
  <div class="page">
    <Trouble v-if="trouble" :problem="trouble"><v-btn variant="outlined" class="again" @click="begin">Ask again</v-btn></Trouble>
    <div v-else-if="!identity" class="asking lead">
      <v-progress-linear indeterminate color="primary" class="bar" />
      Asking on <strong class="mono">{{ at }}</strong> who is there. Nothing is changed.
    </div>
    <template v-else-if="!identity.unit">
      <h1>It does not tell its serial</h1>
      <p class="lead">{{ identity.modelName }}, {{ identity.strength }}. Read the serial on the label and confirm it.</p>
      <form class="row label" @submit.prevent="begin"><v-text-field v-model="label" label="Serial on the label" /><v-btn type="submit" color="primary" :disabled="!label">That is what it says</v-btn></form>
    </template>
    <div v-else-if="unit" class="work">
      <section class="left">
        <div class="row top">
          <UnitPlate :unit="unit" :note="identity.strength" />
          <div>
            <h1 v-if="restoring">Put the backup back?</h1>
            <h1 v-else-if="verdict">{{ verdict.version }}: {{ verdicts[verdict.verdict] }}<template v-if="fit?.question">, one question left</template><template v-else-if="verdict.current">, it runs already</template></h1>
            <h1 v-else>No release for this model</h1>
            <p v-if="!restoring" class="lead">Runs <strong>{{ identity.facts.running?.value ?? 'an unknown version' }}</strong>.</p>
          </div>
        </div>
        <template v-if="!restoring">
          <v-radio-group v-model="chosen" class="releases" hide-details aria-label="Release" @update:model-value="look">
            <label v-for="v in fit?.verdicts" :key="v.release" class="release" :class="{ picked: v.release === chosen }">
              <v-radio :value="v.release" :aria-label="`${v.version} ${verdicts[v.verdict]}`" class="radio" />
              <span class="mono version">{{ v.version }}</span>
              <span class="small channel">{{ v.channel }}<template v-if="v.recommended">, recommended</template><template v-if="v.current">, runs now</template><template v-else-if="v.step === 'older' && v.verdict === 'fits'">, a step back</template></span>
              <VerdictTag :verdict="v.verdict" />
              <span class="small why">{{ v.reasons.filter((r) => r.answer === v.verdict && (v.verdict !== 'fits' || r.fact !== 'model')).map((r) => r.text).join(' ') }}</span>
            </label>
          </v-radio-group>
          <div v-if="strip" class="memory"><h2>What would change</h2><SectorStrip :sectors="strip.sectors" :states="strip.states" would /><p class="small muted">As its memory was read {{ when(strip.read) }}; the run reads it again.</p></div>
        </template>
        <h2 class="gap">Known facts</h2>
        <div class="facts">
          <div v-for="(f, name) in identity.facts" :key="name" :class="{ brick: disagree.includes(String(name)) }">
            <span class="muted">{{ factNames[name] ?? name }}</span> <strong>{{ String(name) === 'memory' ? kib(Number(f.value)) : f.value }}</strong>
            <div class="small muted">{{ sources[f.source] }}, {{ when(f.at) }}</div>
          </div>
        </div>
      </section>
      <aside>
        <div v-if="disagree.length && !restoring" class="card turn">
          <div class="field"><v-icon :icon="mdiHandBackRight" /> <strong>Your turn: wire and label disagree</strong><p class="ask">The wire says {{ disagree[0] }} {{ identity.facts[disagree[0]!]?.value }}. What does the label say?</p></div>
          <v-btn variant="outlined" block :loading="busy" @click="answer(disagree[0]!, identity.facts[disagree[0]!]!.value, 'label')">It says {{ identity.facts[disagree[0]!]?.value }}: the note was wrong</v-btn>
          <p class="small muted">If the label really says something else, this unit is not what it seems. Set it apart and ask a lead.</p>
        </div>
        <div v-else-if="fit?.question && !restoring" class="card turn" data-question>
          <div class="field"><v-icon :icon="mdiHandBackRight" /> <strong>Your turn: one question</strong><p class="ask">{{ fit.question.ask }}</p></div>
          <button v-for="(value, i) in fit.question.values" :key="value" type="button" class="choice" :disabled="busy" @click="answer(fit.question!.fact, value, 'person')">
            <strong>{{ value }}</strong><span v-if="fit.question.leads[i]" class="leads teal">{{ fit.question.leads[i] }} fits</span><span v-else class="leads brick">nothing fits</span>
          </button>
          <p class="small muted">Kept as a fact of this unit with your name and the time.</p>
        </div>
        <div v-else class="card">
          <h2>Before it begins</h2>
          <dl>
            <dt>Unit</dt><dd class="mono">{{ unit.serial }}</dd>
            <dt>Link</dt><dd class="mono">{{ at }}</dd>
            <template v-if="restoring && backup"><dt>Backup</dt><dd>{{ when(backup.taken) }}, ran {{ backup.running || '?' }}<br /><DigestText :digest="backup.digest" /></dd></template>
            <template v-else-if="verdict"><dt>Version</dt><dd class="mono">{{ identity.facts.running?.value ?? '?' }} → {{ verdict.version }}</dd></template>
            <dt>Way back</dt><dd>{{ unit.state === 'half-done' ? 'the backup from before the interrupted write' : 'full backup, taken and stored before the first erase' }}</dd>
            <dt>Lost</dt><dd>nothing outside the sectors that differ; settings are kept</dd>
            <dt>Meanwhile</dt><dd>it does nothing; leave it, its leads and its power alone</dd>
          </dl>
          <v-btn color="primary" size="x-large" block :loading="busy" :disabled="!restoring && !verdict" :append-icon="mdiArrowRight" data-go @click="go">
            {{ restoring ? 'Put it back' : verdict?.verdict !== 'fits' ? 'Have it refused, on the record' : verdict?.current ? `Write ${verdict.version} again` : `Back up, then write ${verdict?.version}` }}
          </v-btn>
        </div>
      </aside>
    </div>
  </div>
</template>

<style scoped>
.work { display: grid; grid-template-columns: minmax(0, 1fr) 360px; gap: 32px; align-items: start; }
.top { gap: 24px; margin-bottom: 16px; }
.asking { display: grid; gap: 12px; max-width: 60ch; }
.again { margin-top: 12px; }
.label { max-width: 560px; margin-top: 16px; flex-wrap: nowrap; }
.releases :deep(.v-selection-control-group) { gap: 8px; }
.release { display: grid; grid-template-columns: 44px 120px 170px 170px 1fr; gap: 8px; align-items: center; border: 1px solid var(--line); border-radius: 6px; padding: 4px 12px 4px 4px; background: rgb(var(--v-theme-surface)); cursor: pointer; }
.release.picked { border: 2px solid var(--ink); padding: 3px 11px 3px 3px; }
.radio { grid-area: auto; }
.version { font-weight: 600; font-size: 18px; }
.gap { margin: 20px 0 8px; }
.memory { margin-top: 20px; }
.facts { display: grid; grid-template-columns: repeat(auto-fill, minmax(200px, 1fr)); gap: 12px 24px; }
.card { background: rgb(var(--v-theme-surface)); border: 1px solid var(--line); border-radius: 8px; padding: 16px; display: grid; gap: 12px; }
.turn { border: 2px solid var(--ink); padding: 0 0 12px; overflow: hidden; }
.turn > *:not(.field) { margin: 0 12px; }
.field { background: rgb(var(--v-theme-hands-on)); color: rgb(var(--v-theme-on-hands-on)); padding: 16px; }
.ask { font-size: 20px; font-weight: 700; line-height: 1.3; margin-top: 8px; }
.choice { font: inherit; color: inherit; background: none; border: 1.5px solid var(--ink); border-radius: 6px; min-height: 64px; padding: 8px 16px; text-align: left; display: flex; justify-content: space-between; align-items: center; cursor: pointer; font-size: 18px; }
.leads { font-weight: 700; font-size: 16px; }
dl { display: grid; grid-template-columns: 90px 1fr; gap: 8px 12px; }
dt { color: var(--muted); }
@media (max-width: 1000px) {
  .work { grid-template-columns: minmax(0, 1fr); }
  .release { grid-template-columns: 44px 1fr auto; }
  .channel, .why { grid-column: 2 / -1; }
  .release :deep(.verdict), .release > .verdict { grid-column: 3; grid-row: 1; }
}
</style>
