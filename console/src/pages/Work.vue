<script setup lang="ts">
// From what is plugged in to the one question before the write.
import { mdiAlert, mdiArrowRight, mdiCheckCircle, mdiCloseCircle, mdiHandBackRight, mdiHelpCircle } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, problem, send, type Admission, type Backup, type Card, type Fit, type Identity, type Problem, type Rehearsal, type Strip, type UnitPage } from '../api/client'
import { allLinks, linkAt } from '../lists'
import DigestText from '../parts/DigestText.vue'
import IdentifyWith from '../parts/IdentifyWith.vue'
import LineOfStops from '../parts/LineOfStops.vue'
import AskedNow from '../parts/AskedNow.vue'
import BeforeVersion from '../parts/BeforeVersion.vue'
import FitMatrix from '../parts/FitMatrix.vue'
import NeedList from '../parts/NeedList.vue'
import QuestionCard from '../parts/QuestionCard.vue'
import SectorStrip from '../parts/SectorStrip.vue'
import type { Stop } from '../parts/stops'
import Trouble from '../parts/Trouble.vue'
import UnitPlate from '../parts/UnitPlate.vue'
import RehearsalBoard from '../parts/RehearsalBoard.vue'
import { backs, session } from '../hands'
import BarList from '../parts/BarList.vue'
import ProtectedMemory from '../parts/ProtectedMemory.vue'
import Says from '../parts/Says.vue'
import { permits } from '../api/names'
import { newest } from '../newest'
import { cap, factNames, kib, listed, say, sayOf, sentence, sources, verdicts, when } from '../words'

const props = defineProps<{ bench: string; link: string; slot?: string }>()
const route = useRoute()
const router = useRouter()
const link = `${props.bench}/${props.link}`
const at = props.slot ? `${link}/${props.slot}` : link
const identity = ref<Identity | null>(null)
const unit = ref<UnitPage | null>(null)
const strip = ref<Strip | null>(null)
const chosen = ref('')
const trouble = ref<Problem | null>(null)
const said = ref<Problem | null>(null)
const busy = ref(false)
const label = ref('')
const reason = ref('')
const asked = ref('')
const job = ref<number | null>(null)
const later = ref(false)
const restoring = computed(() => String(route.query.backup ?? ''))

const fit = ref<Fit | null>(null)
const card = ref<Card | null>(null)
const recommended = computed(() => fit.value?.verdicts.find((v) => v.recommended))
const verdict = computed(() => fit.value?.verdicts.find((v) => v.release === chosen.value))
const backup = computed<Backup | undefined>(() => unit.value?.backups.find((b) => b.id === restoring.value))
const stage = computed(() => (!identity.value ? 0 : restoring.value || verdict.value?.verdict === 'fits' ? 2 : 1))
// What not every unit may have wants a reason; it stands in the record.
const wantsReason = computed(() => admission.value?.bars.some((b) => b.rule === 'reason') ?? false)
const openJobs = computed(() => unit.value?.jobs ?? [])
const beware = computed(() => verdict.value?.reasons.filter((r) => r.warns) ?? [])
// Further links of the unit, by the name that its sheet gives them.
const further = ref<Record<string, string>>({})
const free = ref<string[]>([])
// All that would stop the run, asked before anybody moves a hand.
const admission = ref<Admission | null>(null)
const bars = computed(() => admission.value?.bars.filter((b) => b.rule !== 'reason') ?? [])
const passable = computed(() => session.may('lead') && bars.value.length > 0 && bars.value.every((b) => b.gate))
const bySaying = ref('')
// What cannot be taken back wants a second person: a lead is asked.
const pleading = ref('')
const leaveAsked = ref(0)
const askable = computed(() => bars.value.length > 0 && bars.value.some((b) => b.gate || b.what) && !bars.value.some((b) => ['fit', 'permission', 'link'].includes(b.rule)))
async function ask() {
  said.value = null
  const { data, error } = await api.POST('/api/seconds', { body: { at: unit.value!.id, kind: restoring.value ? 'restore' : 'flash', ...(restoring.value ? { backup: restoring.value } : { release: chosen.value }), reason: pleading.value } })
  if (data) leaveAsked.value = data.number
  else said.value = problem(error)
}

// The same run, on a twin made of the unit's backup.
const rehearsal = ref<Rehearsal | null>(null)
const rehearsing = ref(false)
async function rehearse() {
  rehearsing.value = true
  said.value = rehearsal.value = null
  const { data, error } = await api.POST('/api/rehearsals', { body: { at: unit.value!.id, release: chosen.value, again: verdict.value?.current ?? false } })
  if (data) rehearsal.value = data
  else said.value = problem(error)
  rehearsing.value = false
}

const disagree = computed(() => identity.value?.disagree ?? [])

const stops = computed<Stop[]>(() => {
  const facts = identity.value?.facts
  const out: Stop[] = [
    { key: 'i', word: 'Identify', fact: facts ? say('rev {1}, runs {2}', facts.revision?.value ?? '?', facts.running?.value ?? '?') : 'asking the unit', state: 'ahead' },
    { key: 'f', word: 'Fit', fact: fit.value?.question ? (fit.value.question.left === 1 ? 'one question left' : say('{1} questions left', fit.value.question.left)) : verdict.value ? `${verdict.value.version} ${verdicts[verdict.value.verdict]}` : 'by itself', hand: !!fit.value?.question, state: 'ahead' },
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
    if (await byRegister(true)) return // one that is called at its power-up does not answer before
    const { data, error } = await api.POST('/api/identify', { body: label.value ? { at, label: label.value } : { at } })
    if (error) throw error
    identity.value = data
    await judge()
  } catch (e) {
    const p = problem(e)
    // A half-done unit has a run of its own: that is where to go on.
    if (p.kind === 'busy' && !restoring.value) {
      const run = (await linkAt(link))?.run
      if (run) return router.replace(`/runs/${run}`)
    }
    // A loader that opens only after hands have acted: the run asks it on the wire.
    if (p.kind === 'not-answering' && (await byRegister())) return
    trouble.value = p
  }
}

async function known(data: Identity, said: string) {
  trouble.value = null
  label.value = said
  identity.value = data
  try {
    await judge()
  } catch (e) {
    trouble.value = problem(e)
  }
}

// A backup alone changes nothing, and waits for nobody's word.
async function keep() {
  busy.value = true
  said.value = null
  try {
    const { data, error } = await api.POST('/api/runs', { body: { kind: 'backup', at, ...(label.value && { label: label.value }), ...(Object.keys(further.value).length > 0 && { links: further.value }) } })
    if (error) throw error
    router.push(`/runs/${data.id}`)
  } catch (e) {
    said.value = problem(e)
  }
  busy.value = false
}

// What the register says of the unit that was here last, where hands act before it answers;
// with waits, only where it answers to nothing but its power.
async function byRegister(waits = false) {
  const { data: known } = await api.GET('/api/card', { params: { query: { at } } })
  if (!known?.procedure || !known.unit) return false
  if (waits && !known.items.some((i) => i.do === 'apply')) return false
  const { data: u } = await api.GET('/api/units/{unit}', { params: { path: { unit: known.unit } } })
  if (!u) return false
  identity.value = { link: at, unit: u.id, serial: u.serial, model: u.model, modelName: u.modelName, site: u.site, strength: 'by the register; the run asks it on the wire', facts: u.facts, missing: [], disagree: [] }
  await judge()
  return true
}

async function judge() {
  if (!identity.value?.unit) return
  const path = { params: { path: { unit: identity.value.unit } } }
  const { data, error } = await api.GET('/api/units/{unit}', path)
  if (error) throw error
  unit.value = data
  if (data.jobs.length) job.value ??= data.jobs[0]!.number
  const { data: judged, error: wrong } = await api.GET('/api/fit', { params: { query: { at: identity.value.unit } } })
  if (wrong) throw wrong
  const v = judged.verdicts
  chosen.value = (v.find((x) => x.recommended) ?? v.find((x) => x.version === judged.question?.version) ?? v.find((x) => x.current) ?? v[0])?.release ?? ''
  fit.value = judged
  card.value = (await api.GET('/api/card', { params: { query: { at: identity.value.unit } } })).data ?? null
  look()
}

const looking = newest()
async function look() {
  const still = looking()
  strip.value = null
  admit()
  if (!unit.value || restoring.value || !chosen.value) return
  const { data } = await api.GET('/api/units/{unit}/memory', { params: { path: { unit: unit.value.id }, query: { release: chosen.value } } })
  if (still()) strip.value = data && data.sectors.length ? data : null
}

const wanted = computed(() => {
  const body = restoring.value ? { kind: 'restore' as const, at: identity.value!.link, backup: restoring.value } : { kind: 'flash' as const, at: identity.value!.link, release: chosen.value, again: verdict.value?.current ?? false }
  return { ...body, ...(reason.value && { reason: reason.value }), ...(asked.value && { asked: asked.value }), ...(job.value && { job: job.value }), ...(label.value && { label: label.value }), ...(Object.keys(further.value).length > 0 && { links: further.value }) }
})

const admitting = newest()
async function admit() {
  const still = admitting()
  const answer = identity.value?.unit && (restoring.value || chosen.value) ? ((await api.POST('/api/admission', { body: wanted.value })).data ?? null) : null
  if (!still()) return
  admission.value = answer
  if (admission.value?.asks?.length && !free.value.length) {
    free.value = (await allLinks().catch(() => [])).filter((l) => l.link !== link && l.bench === at.split('/')[0] && l.state === 'free').map((l) => l.link)
  }
}

function behind(name: string, link: string) {
  further.value = { ...further.value, [name]: link }
  admit()
}

async function answer(fact: string, value: string, source: 'person' | 'label', photo: File | null = null) {
  busy.value = true
  try {
    const kept = photo ? (await send<{ digest: string }>(`/api/evidence?kind=${encodeURIComponent(photo.type)}`, photo)).digest : ''
    const { error } = await api.POST('/api/units/{unit}/facts', { params: { path: { unit: unit.value!.id } }, body: { facts: [{ name: fact, value, source, ...(kept && { photo: kept }) }] } })
    if (error) throw error
    identity.value!.disagree = []
    if (!identity.value!.facts[fact]) identity.value!.facts[fact] = { value, source, at: new Date().toISOString() }
    await judge()
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}

async function go() {
  busy.value = true
  said.value = null
  try {
    const passed = passable.value && bySaying.value ? { reason: bySaying.value, waive: [...new Set(bars.value.map((b) => b.gate!))] } : {}
    const { data, error } = await api.POST('/api/runs', { body: { ...wanted.value, ...passed } })
    if (error) throw error
    router.push(`/runs/${data.id}`)
  } catch (e) {
    said.value = problem(e)
  }
  busy.value = false
}

// What no backup can bring back, and whether the run stops at the gate for that.
const lost = computed(() => {
  const gone = card.value?.fates.filter((f) => f.fate === 'lost').map((f) => f.name) ?? []
  if (card.value?.wayBack === 'settings') gone.push('what the unit does not tell of its settings')
  return gone.join(', ') || 'the program that it runs, but for its image in the catalogue'
})

onMounted(begin)
</script>

<template>
  <LineOfStops :stops="stops" />
  <hr class="rule" />
  <div class="page">
    <h1 v-if="trouble" class="out">{{ say('Who is on {1}?', at) }}</h1>
    <Trouble v-if="trouble" :problem="trouble"><span class="row again"><v-btn variant="outlined" @click="begin">Ask again</v-btn><v-btn variant="outlined" :to="`/check/${link}`" data-prove>Find out why</v-btn><IdentifyWith :at="at" @identified="known" /></span></Trouble>
    <div v-else-if="!identity" class="asking lead">
      <v-progress-linear indeterminate color="primary" class="bar" aria-label="Asking who is there" /> <Says text="Asking on {1} who is there. Nothing is changed."><template #1><strong class="mono">{{ at }}</strong></template></Says> <AskedNow :at="at" />
    </div>
    <template v-else-if="!identity.unit">
      <h1>It does not tell its serial</h1>
      <p class="lead">{{ say('{1}, {2}. Read the serial on the label and confirm it.', identity.modelName, identity.strength) }}</p>
      <form class="row label" @submit.prevent="begin"><v-text-field v-model="label" label="Serial on the label" /><v-btn type="submit" color="primary" :disabled="!label">That is what it says</v-btn></form>
    </template>
    <div v-else-if="unit" class="work">
      <section class="left">
        <div class="row top">
          <UnitPlate :unit="unit" :note="identity.strength" />
          <div>
            <h1 v-if="restoring">Put the backup back?</h1>
            <h1 v-else-if="verdict">{{ verdict.version }}: {{ listed(verdicts[verdict.verdict], fit?.question && verdict.version === fit.question.version ? sayOf('one question left', '{1} questions left', fit.question.left) : verdict.current && 'it runs already') }}</h1>
            <h1 v-else>No release for this model</h1>
            <p v-if="!restoring" class="lead"><Says text="Runs {1}.{2}"><template #1><strong>{{ identity.facts.running?.value ?? 'an unknown version' }}</strong></template><template v-if="verdict?.toward" #2><Says text=" {1} is a step on the way to {2}." :put="{ 1: verdict.version }"><template #2><strong>{{ verdict.toward }}</strong></template></Says></template></Says></p>
          </div>
        </div>
        <p v-if="identity.stays" class="brick" data-stays>{{ identity.stays.text }}</p>
        <template v-if="!restoring">
          <FitMatrix v-if="fit?.matrix" :matrix="fit.matrix" :picked="chosen" :recommended="recommended?.release" @pick="((chosen = $event), look())" />
          <template v-if="verdict">
            <h2 class="gap">{{ say('Why “{1}” for {2} on this unit', verdicts[verdict.verdict], verdict.version) }}</h2>
            <ul class="why">
              <li v-for="r in verdict.reasons" :key="r.rule + r.fact + r.text" :class="r.answer">
                <v-icon :icon="r.warns ? mdiAlert : { fits: mdiCheckCircle, 'does-not-fit': mdiCloseCircle, 'cannot-tell': mdiHelpCircle }[r.answer]" :class="r.warns || r.answer === 'does-not-fit' ? 'brick' : r.answer === 'fits' ? 'teal' : ''" size="20" />
                <span><strong v-if="r.answer === 'fits' && !r.warns && r.fact">{{ factNames[r.fact] ?? r.fact }} {{ r.value }}</strong><span v-else>{{ r.text }}</span><span v-if="r.source" class="small muted src">{{ sources[r.source] }}<template v-if="r.at">, {{ when(r.at) }}</template></span></span>
              </li>
            </ul>
            <p v-if="verdict.path?.length" class="lead"><Says text="Write in this order: {1}."><template #1><strong class="mono">{{ [...verdict.path, verdict.version].join(' → ') }}</strong></template></Says></p>
          </template>
          <template v-if="fit?.inside"><h2 class="gap">What its memory holds</h2><p :class="{ brick: fit.inside.lies || fit.inside.partly || !fit.inside.known }">{{ fit.inside.text }} <span class="small muted">{{ say('By content, read {1}.', when(fit.inside.taken)) }}</span></p></template>
          <template v-if="fit?.needs.length"><h2 class="gap">What the job needs first</h2><NeedList :needs="fit.needs" /></template>
          <div v-if="strip" class="memory"><h2>What would change</h2><SectorStrip :sectors="strip.sectors" :states="strip.states" would /><p class="small muted">{{ say('As its memory was read {1}; the run reads it again.', when(strip.read)) }}</p></div>
        </template>
        <RehearsalBoard v-if="rehearsal && rehearsal.version === verdict?.version" :rehearsal="rehearsal" />
        <ProtectedMemory v-if="card && !restoring" :card="card" />
        <h2 class="gap">Known facts</h2>
        <div class="facts">
          <div v-for="(f, name) in identity.facts" :key="name" :class="{ brick: disagree.includes(String(name)) }">
            <span class="muted">{{ factNames[name] ?? cap(f.called ?? String(name)) }}</span> <strong>{{ String(name) === 'memory' ? kib(Number(f.value)) : f.value }}</strong>
            <div class="small muted">{{ sources[f.source] }}, {{ when(f.at) }}</div>
          </div>
        </div>
        <BeforeVersion v-if="!identity.facts.running && !identity.facts['version-unread'] && !restoring" :busy="busy" @read="(value, photo) => answer('running', value, 'person', photo)" @unread="(why) => answer('version-unread', why, 'person')" />
      </section>
      <aside>
        <div v-if="disagree.length && !restoring" class="card turn">
          <div class="field"><v-icon :icon="mdiHandBackRight" /> <strong>Your turn: wire and label disagree</strong><p class="ask">{{ say('The wire says {1} {2}. What does the label say?', disagree[0], identity.facts[disagree[0]!]?.value) }}</p></div>
          <v-btn variant="outlined" block :loading="busy" @click="answer(disagree[0]!, identity.facts[disagree[0]!]!.value, 'label')">{{ say('It says {1}: the note was wrong', identity.facts[disagree[0]!]?.value) }}</v-btn>
          <p class="small muted">If the label really says something else, this unit is not what it seems. Set it apart and ask a lead.</p>
        </div>
        <QuestionCard v-else-if="fit?.question && !restoring && !later" :question="fit.question" :busy="busy" @answer="(value, photo) => answer(fit!.question!.fact, value, 'person', photo)" @later="later = true" />
        <div v-else-if="restoring || fit" class="card">
          <h2>Before it begins</h2>
          <Trouble v-if="said" :problem="said" data-said />
          <dl>
            <dt>Unit</dt><dd class="mono">{{ unit.serial }}</dd>
            <dt>Link</dt><dd class="mono">{{ at }}</dd>
            <template v-if="restoring && backup"><dt>Backup</dt><dd>{{ say('{1}, ran {2}', when(backup.taken), backup.running || '?') }}<br /><DigestText :digest="backup.digest" /></dd></template>
            <template v-else-if="verdict"><dt>Version</dt><dd class="mono">{{ identity.facts.running?.value ?? '?' }} → {{ verdict.version }}</dd></template>
            <template v-if="card?.procedure"><dt>Card</dt><dd><Says text="{1}, about {2} min with your hands" :put="{ 2: card.minutes }"><template #1><router-link :to="`/card/${unit.id}`" data-card>{{ card.procedure }}, {{ card.standing }}</router-link></template></Says></dd></template>
            <dt>Way back</dt><dd v-if="restoring">{{ card?.wayBack === 'full' ? 'what is in it now is read and kept first' : 'none beside this backup: what is in it now cannot be read' }}</dd><dd v-else-if="card && card.wayBack !== 'full'" class="brick"><strong>{{ backs[card.wayBack] }}</strong></dd><dd v-else>{{ unit.state === 'half-done' ? 'the backup from before the interrupted write' : 'full backup, taken and stored before the first erase' }}</dd>
            <dt>Lost</dt><dd v-if="restoring">what was written since the backup, settings too: they come back as they were then</dd><dd v-else>{{ !card || card.wayBack === 'full' ? 'nothing outside the sectors that differ; settings as the release takes them over' : lost }}</dd>
            <dt>Meanwhile</dt><dd>it does nothing; leave it, its leads and its power alone</dd>
          </dl>
          <div v-for="r in beware" :key="r.text" class="beware"><v-icon :icon="mdiAlert" class="brick" size="20" /> {{ r.text }}</div>
          <p v-if="(admission?.parts.length ?? 0) > 1"><Says text="Parts, in this order: {1}."><template #1><strong>{{ admission!.parts.map((p) => p.title).join(', ') }}</strong></template></Says></p>
          <p v-for="u in admission?.uses ?? []" :key="u" class="beware"><v-icon :icon="mdiAlert" size="20" /> {{ say('It uses up one of {1}.', u) }}</p>
          <v-select v-for="x in admission?.asks ?? []" :key="x.name" :model-value="further[x.name]" :items="free" :label="say('{1} is on which link?', x.title)" :data-further="x.name" @update:model-value="(l: string) => behind(x.name, l)" />
          <BarList v-if="bars.length" :bars="bars" />
          <form v-if="askable && session.may('technician')" class="leave" @submit.prevent="ask">
            <p v-if="leaveAsked"><router-link :to="`/seconds/${leaveAsked}`" data-asked-leave>The leads are asked</router-link>: begin once leave is given.</p>
            <template v-else><v-text-field v-model="pleading" label="Ask a lead for leave: why this unit?" hide-details data-ask-why /><v-btn type="submit" variant="outlined" block :disabled="pleading.trim().length < 3" data-ask-leave>Ask for leave</v-btn></template>
          </form>
          <v-text-field v-if="passable" v-model="bySaying" label="Pass this by your name: why?" data-pass />
          <p v-for="l in admission?.left ?? []" :key="l.section" class="small">{{ say('Part {1} stays as it is: {2}', l.section, sentence(l.why)) }}</p>
          <p v-for="w in (admission?.waived ?? []).filter((x) => permits[x.gate])" :key="w.gate" class="small">{{ say('A lead consents to a {1}: {2}', permits[w.gate], sentence(w.reason)) }}</p>
          <template v-if="openJobs.length">
            <v-select v-if="openJobs.length > 1" v-model="job" :items="openJobs.map((j) => ({ title: `${j.number}: ${j.reason}`, value: j.number }))" label="For which job?" data-job-pick @update:model-value="admit" />
            <p v-else class="small" data-job-of><Says text="For {1}: {2}" :put="{ 2: openJobs[0]!.reason }"><template #1><router-link :to="`/jobs/${openJobs[0]!.number}`">{{ say('job {1}', openJobs[0]!.number) }}</router-link></template></Says></p>
            <p v-if="admission?.test" class="small"><Says text="Tried at the end: {1}"><template #1><strong>{{ admission.test }}</strong></template></Says></p>
          </template>
          <v-text-field v-model="reason" :label="wantsReason ? 'Why this unit? It is wanted' : openJobs.length ? 'More to say of why' : 'Why is this done?'" data-reason @blur="admit" />
          <v-text-field v-if="!openJobs.length" v-model="asked" label="Who asked for it?" data-asked />
          <v-btn color="primary" size="x-large" block :loading="busy" :disabled="(!restoring && !verdict) || (wantsReason && reason.trim().length < 3)" :append-icon="mdiArrowRight" data-go @click="go">
            {{ restoring && !bars.length ? 'Put it back' : bars.length && !(passable && bySaying.trim().length > 2) ? 'Have it refused, on the record' : verdict?.current ? say('Write {1} again', verdict.version) : say('Back up, then write {1}', verdict?.version) }}
          </v-btn>
          <v-btn v-if="!restoring && unit.backups.length && verdict && session.may('technician')" variant="outlined" block :loading="rehearsing" data-rehearse @click="rehearse">Rehearse it first</v-btn>
          <v-btn v-if="!restoring && unit.backups.length && verdict && session.may('technician')" variant="text" block :to="`/rehearse/${unit.id}?release=${chosen}`" data-by-hand>Go through it by hand, on its twin</v-btn>
          <v-btn v-if="!restoring" variant="text" block :loading="busy" data-backup-only @click="keep">Back up only, change nothing</v-btn>
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
.why { list-style: none; display: grid; grid-template-columns: repeat(auto-fill, minmax(250px, 1fr)); gap: 0 24px; }
.why li { display: flex; gap: 8px; padding: 8px 0; border-top: 1px solid var(--line); }
.src { display: block; }
.beware { display: flex; gap: 8px; font-size: 15px; }
.gap { margin: 20px 0 8px; }
.memory { margin-top: 20px; }
.facts { display: grid; grid-template-columns: repeat(auto-fill, minmax(200px, 1fr)); gap: 12px 24px; }
.card { background: rgb(var(--v-theme-surface)); border: 1px solid var(--line); border-radius: 8px; padding: 16px; display: grid; gap: 12px; }
.turn { border: 2px solid var(--ink); padding: 0 0 12px; overflow: hidden; }
.turn > *:not(.field) { margin: 0 12px; }
.field { background: rgb(var(--v-theme-hands-on)); color: rgb(var(--v-theme-on-hands-on)); padding: 16px; }
.ask { font-size: 20px; font-weight: 700; line-height: 1.3; margin-top: 8px; }
dl { display: grid; grid-template-columns: 90px 1fr; gap: 8px 12px; }
dt { color: var(--muted); }
@media (max-width: 1000px) {
  .work { grid-template-columns: minmax(0, 1fr); }
  aside { order: -1; }
}
</style>
