<script setup lang="ts">
import { mdiArchiveCheck, mdiArrowRight, mdiMinusCircleOutline } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, problem, type Entry, type History, type Problem, type Strip, type UnitPage } from '../api/client'
import { every } from '../every'
import BulletinList from '../parts/BulletinList.vue'
import CorrectUnit from '../parts/CorrectUnit.vue'
import DigestText from '../parts/DigestText.vue'
import HistoryChain from '../parts/HistoryChain.vue'
import SectorStrip from '../parts/SectorStrip.vue'
import Trouble from '../parts/Trouble.vue'
import UnitPlate from '../parts/UnitPlate.vue'
import VerdictTag from '../parts/VerdictTag.vue'
import JobForm from '../parts/JobForm.vue'
import ThroughHeader from '../parts/ThroughHeader.vue'
import TestAnswer from '../parts/TestAnswer.vue'
import UnitEntry from '../parts/UnitEntry.vue'
import LeftAt from '../parts/LeftAt.vue'
import Says from '../parts/Says.vue'
import UnitSettings from '../parts/UnitSettings.vue'
import UnitRules from '../parts/UnitRules.vue'
import { session } from '../session'
import { cap, factNames, hows, kib, listed, outcomes, say, sayOf, sentence, sources, tests, verdicts, when } from '../words'

const props = defineProps<{ unit: string }>()
const router = useRouter()
const page = ref<UnitPage | null>(null)
const history = ref<History | null>(null)
const strip = ref<Strip | null>(null)
const trouble = ref<Problem | null>(null)

async function load() {
  const path = { params: { path: { unit: props.unit } } }
  try {
    const [a, b, c] = await Promise.all([api.GET('/api/units/{unit}', path), api.GET('/api/units/{unit}/history', path), api.GET('/api/units/{unit}/memory', path)])
    if (a.error || b.error) throw a.error ?? b.error
    page.value = a.data
    history.value = b.data
    if (old.value && b.data.before !== old.value.from) old.value = null // there are new ones: the pages no longer meet
    strip.value = c.data ?? null
    trouble.value = null
  } catch (e) {
    trouble.value = problem(e)
  }
}
every(5000, load)

// What was asked for besides the newest page of a long history.
const old = ref<{ from: number; entries: Entry[]; before?: number } | null>(null)
const told = computed<History | null>(() => history.value && { ...history.value, entries: [...history.value.entries, ...(old.value?.entries ?? [])] })
const before = computed(() => (old.value ? old.value.before : history.value?.before))
async function older() {
  if (!history.value?.before || !before.value) return
  const { data, error } = await api.GET('/api/units/{unit}/history', { params: { path: { unit: props.unit }, query: { before: before.value } } })
  if (error) trouble.value = problem(error)
  else old.value = { from: history.value.before, entries: [...(old.value?.entries ?? []), ...data.entries], before: data.before }
}

const naming = ref('')
const called = ref('')
async function nameIt() {
  try {
    const { error } = await api.POST('/api/units/{unit}/backups/{backup}/name', { params: { path: { unit: props.unit, backup: naming.value } }, body: { name: called.value } })
    if (error) throw error
    naming.value = ''
    await load()
  } catch (e) {
    trouble.value = problem(e)
  }
}

const recommended = computed(() => page.value?.fit?.verdicts.find((v) => v.recommended))
const strange = computed(() => page.value?.fit?.verdicts.some((v) => v.reasons.some((r) => r.rule === 'strange')) ?? false)
const heading = computed(() => page.value?.fit?.now.text ?? '')
const facts = computed(() => Object.entries(page.value?.facts ?? {}).filter(([n]) => !['serial', 'model'].includes(n)))
const last = computed(() => page.value?.last)
const wayBack = computed(() => page.value?.backups.find((b) => !b.ruin))
const blocked = computed(() => {
  const u = page.value
  if (!u) return ''
  if (!session.may('technician')) return 'A technician starts runs; ask one.'
  if (!u.link) return 'It is on no link now. Plug it in and identify it on the page Benches.'
  if (u.linkState === 'offline') return say('Bench {1} is out of touch with the service.', u.link.split('/')[0])
  return ''
})
</script>

<template>
  <div v-if="trouble" class="page"><Trouble :problem="trouble" /></div>
  <template v-else-if="page">
    <div class="band">
      <div class="page head">
        <UnitPlate :unit="page" />
        <div class="say">
          <h1 class="big" :class="{ brick: page.state === 'half-done' || strange }">{{ heading }}</h1>
          <p class="lead">
            <template v-if="page.running"><Says text="Runs {1}. "><template #1><strong>{{ page.running }}</strong></template></Says></template>
            <template v-if="recommended?.held && recommended.version !== page.running"><Says text="It is to be at {1}."><template #1><strong>{{ recommended.version }}</strong></template></Says></template><template v-else-if="recommended && recommended.version !== page.running"><Says text="The newest that fits is {1}."><template #1><strong>{{ recommended.version }}</strong></template></Says></template>
            <template v-if="page.fit?.question">{{ say('One question stands between this unit and a verdict: {1}', page.fit.question.ask) }}</template>
          </p>
          <p v-if="page.mistake" class="brick" data-mistaken><strong>Entered by mistake:</strong> {{ sentence(page.mistake) }}</p>
          <p v-if="page.sameAs" class="brick" data-same><strong>It was entered twice.</strong> <router-link :to="`/units/${page.sameAs}`">This is the unit.</router-link></p>
          <p v-for="d in page.doubles ?? []" :key="d.id" class="small"><Says text="Was also entered as {1}."><template #1><router-link :to="`/units/${d.id}`" class="mono">{{ d.serial }}</router-link></template></Says></p>
          <p v-if="page.siteInfo && (page.siteInfo.contact || page.siteInfo.note)" class="small" data-place><strong>{{ page.siteInfo.name }}:</strong> {{ page.siteInfo.contact }}<template v-if="page.siteInfo.note">. {{ sentence(page.siteInfo.note) }}</template></p>
          <p v-if="page.withdrawn" class="brick" data-withdrawn><strong>What it runs was withdrawn:</strong> {{ sentence(page.withdrawn) }}</p>
          <p v-for="j in page.jobs" :key="j.number" class="small" data-job-of><router-link :to="`/jobs/${j.number}`">{{ say('Job {1}', j.number) }}</router-link>: {{ j.reason }}<template v-if="j.asked">, {{ say('asked by {1}', j.asked) }}</template><template v-if="j.planned">, {{ j.planned }}</template></p>
          <div v-for="t in page.tests" :key="t.item" class="row" data-open-test><span><strong>{{ t.whose ? say('Test {1} to {2} until {3}:', tests[t.state], t.whose, t.due) : say('Test {1}:', tests[t.state]) }}</strong> {{ t.says }}</span><TestAnswer v-if="session.may('technician') && !page.run" :test="t" @answered="load" /></div>
          <p v-if="page.customer || page.note" class="small register" data-register><strong v-if="page.customer">{{ page.customer }}. </strong>{{ page.note }}</p>
          <div class="row">
            <v-chip v-if="wayBack" color="tint-teal" class="tag teal" :prepend-icon="mdiArchiveCheck">{{ say('way back: full backup, {1}', when(wayBack.taken)) }}</v-chip>
            <v-chip v-else color="tint-blue" class="tag">no backup yet; a run takes one first</v-chip>
          </div>
          <LeftAt :unit="page" @changed="load" />
          <div class="row tools">
            <UnitRules :unit="page" @changed="load" />
            <JobForm v-if="session.may('technician') && !page.jobs.length" :unit="page.serial" slight @put="load" />
            <UnitEntry v-if="session.may('technician') && !page.sameAs && !page.mistake && !page.run" :unit="page" @joined="(id) => router.push(`/units/${id}`)" @changed="load" />
            <CorrectUnit v-if="session.may('technician')" :unit="page" @corrected="load" />
          </div>
        </div>
        <div class="act">
          <v-btn v-if="page.run" color="primary" size="x-large" block :to="`/runs/${page.run}`" :append-icon="mdiArrowRight">To its run</v-btn>
          <v-btn v-else-if="!blocked" color="primary" size="x-large" block :to="`/begin/${page.link}`" :append-icon="mdiArrowRight" data-start>
            {{ recommended && recommended.version !== page.running ? say('Start a run with {1}', recommended.version) : 'Start a run' }}
          </v-btn>
          <template v-else><v-btn color="primary" size="x-large" block disabled>Start a run</v-btn></template>
          <ThroughHeader v-if="page.header && !page.run && session.may('technician')" :unit="page" />
          <p class="small"><router-link :to="`/card/${page.id}`" data-card>Its job card: what to know, take along and do</router-link></p>
          <p class="small"><router-link :to="`/handover/${page.serial}`" data-handover>Hand-over: what was done, what was not, what comes next</router-link></p>
          <p class="small">{{ blocked || say('On {1}. It is identified again first; nothing is written before you say so.', page.link) }}</p>
        </div>
      </div>
    </div>
    <div class="page">
      <template v-if="strip && strip.sectors.length">
        <div class="row spread"><h2>{{ say('Memory now, against {1}', strip.against) }}</h2><span class="small muted">{{ say('read {1}', when(strip.read)) }}</span></div>
        <SectorStrip :sectors="strip.sectors" :states="strip.states" would />
      </template>
      <p v-else class="muted">Its memory was never read. A backup or a run draws it here.</p>
      <p v-if="page.fit?.inside" class="inside" :class="{ brick: page.fit.inside.lies || page.fit.inside.partly || !page.fit.inside.known }"><strong>In there:</strong> {{ page.fit.inside.text }} <span class="small muted">{{ say('By content, read {1}.', when(page.fit.inside.taken)) }}</span></p>
      <ul v-if="page.fit?.inside && page.fit.inside.parts.length > 1" class="rows inside" data-inside-parts>
        <li v-for="p in page.fit.inside.parts" :key="p.section"><strong>{{ p.title }}</strong> <span :class="{ brick: p.partly }">{{ p.text }}</span> <span class="small muted">{{ when(p.at) }}</span></li>
      </ul>
      <hr class="rule gap" />
      <div class="columns">
        <section>
          <template v-if="page.bulletins.length"><h2>Bulletins</h2><BulletinList :bulletins="page.bulletins" /></template>
          <h2>What fits now</h2>
          <ul class="rows">
            <li v-for="v in page.fit?.verdicts" :key="v.release" class="fit" :class="{ chosen: v.recommended }">
              <div class="row spread"><span><router-link :to="`/releases/${v.release}`" class="mono"><strong>{{ v.version }}</strong></router-link> {{ v.channel }}</span><VerdictTag :verdict="v.verdict" /></div>
              <div class="small muted">
                <template v-if="v.current"><v-icon :icon="mdiMinusCircleOutline" size="16" /> <Says text="runs now{1}"><template v-if="v.recommended" #1>, nothing to do</template></Says></template>
                <template v-else-if="v.recommended">recommended</template>
                <template v-else-if="v.verdict === 'fits'">{{ v.step === 'older' ? 'a step back' : v.channel === 'candidate' ? 'on trial' : v.step }}</template>
                <template v-else-if="v.path?.length">{{ say('after {1}', v.path.join(' → ')) }}</template>
                <template v-else>{{ v.reasons.filter((r) => r.answer === v.verdict).map((r) => r.text).join(' ') || verdicts[v.verdict] }}</template>
              </div>
            </li>
          </ul>
          <UnitSettings :unit="page" :blocked="blocked" />
          <h2 class="gap">Known facts</h2>
          <table class="plain">
            <tbody>
              <tr v-for="[name, f] in facts" :key="name"><td class="muted">{{ factNames[name] ?? cap(f.called ?? name) }}</td><td><strong>{{ name === 'memory' ? kib(Number(f.value)) : f.value }}</strong><div class="small muted">{{ sources[f.source] }}<template v-if="f.by">, {{ f.by }}</template>, {{ when(f.at) }}<template v-if="f.photo"> · <a :href="`/api/evidence/${f.photo}`" target="_blank" rel="noopener" data-photo>photo</a></template></div></td></tr>
            </tbody>
          </table>
        </section>
        <section>
          <h2><Says text="Last run{1}"><template v-if="last" #1>, {{ when(last.at) }}</template></Says></h2>
          <table v-if="last" class="plain">
            <thead><tr><th /><th>as found</th><th>as left</th></tr></thead>
            <tbody>
              <tr><td class="muted">Runs</td><td class="mono">{{ last.from || 'not read' }}</td><td class="mono"><strong>{{ last.to || 'not read' }}</strong></td></tr>
              <tr v-for="f in last.found.filter((x) => ['revision', 'region', 'chip'].includes(x.name))" :key="f.name"><td class="muted">{{ factNames[f.name] }}</td><td>{{ f.value }}</td><td class="small muted">not changed by a run</td></tr>
              <tr v-if="last.sectors.v"><td class="muted">Memory</td><td>{{ say('{1} sectors old', last.sectors.v) }}</td><td><strong>{{ say('{1} written, verified', last.sectors.v) }}</strong></td></tr>
              <tr><td class="muted">Outcome</td><td /><td><router-link :to="`/runs/${last.run}`">{{ outcomes[last.outcome] }}</router-link></td></tr>
            </tbody>
          </table>
          <p v-else class="muted">No run of this unit is closed yet.</p>
          <h2 class="gap">{{ say('Backups, {1}', page.backups.length) }}</h2>
          <ul class="rows">
            <li v-for="b in page.backups" :key="b.id" class="row spread backup">
              <span><strong>{{ b.ruin ? 'No way back' : b.name || 'Full' }}</strong>, {{ when(b.taken) }}<v-btn v-if="!b.ruin && session.may('technician')" variant="text" size="small" :data-name="b.id" @click="naming = b.id; called = b.name ?? ''">{{ b.name ? 'Rename' : 'Name it' }}</v-btn><br /><span v-if="b.ruin" class="small">What an interrupted write had left in it; kept as evidence.</span><span v-else class="small muted">{{ say('{1}, ran {2}, {3}', kib(b.bytes), b.running || '?', hows[b.how]) }}</span><br /><DigestText :digest="b.digest" /></span>
              <v-btn v-if="!blocked && !page.run && !b.ruin" variant="text" color="primary" :to="`/begin/${page.link}?backup=${b.id}`">Restore…</v-btn>
            </li>
          </ul>
          <p v-if="!page.backups.length" class="muted">None yet.</p>
          <p v-else-if="session.may('technician')"><v-btn variant="text" color="primary" :to="`/rehearse/${page.id}`" data-rehearse>Rehearse on its twin</v-btn></p>
          <form v-if="naming" class="row" @submit.prevent="nameIt"><v-text-field v-model="called" label="What people call this backup" data-field="backup-name" /><v-btn type="submit" variant="outlined" data-put-name>Keep</v-btn></form>
        </section>
        <section v-if="history">
          <div class="row spread"><h2>History</h2><span class="small" :class="history.chain === 'intact' ? 'muted' : 'brick'">{{ listed(sayOf('{1} entry', '{1} entries', history.total), history.chain === 'intact' ? 'checked: as entered' : 'changed since they were entered') }}</span></div>
          <HistoryChain v-if="told" class="chain" :history="told" />
          <v-btn v-if="before" variant="text" @click="older">Older entries</v-btn>
        </section>
      </div>
    </div>
  </template>
  <div v-else class="page"><v-skeleton-loader type="article, table-tbody" color="background" /></div>
</template>

<style scoped>
.tools { gap: 4px; margin-left: -12px; }
.tools :deep([data-rules]), .tools :deep([data-rules] > .row) { display: contents; }
.tools :deep([data-rules] > p) { flex-basis: 100%; margin-left: 12px; }
.head { display: flex; gap: 28px; align-items: center; flex-wrap: wrap; padding-top: 14px; padding-bottom: 14px; }
.say { flex: 1; min-width: 300px; display: grid; gap: 8px; }
.big { font-size: 32px; }
.act { width: 320px; display: grid; gap: 8px; }
.tag { font-weight: 700; }
.gap { margin-top: 20px; }
hr.gap { margin-bottom: 16px; }
.fit { padding: 10px 12px; }
.chosen { background: rgb(var(--v-theme-tint-teal)); border: 2px solid rgb(var(--v-theme-secondary)); border-radius: 6px; margin-top: 6px; }
.chain { margin-top: 12px; }
.inside { margin-top: 12px; max-width: 100ch; }
@media (max-width: 600px) { .act { width: 100%; } .big { font-size: 26px; } }
</style>
