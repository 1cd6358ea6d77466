<script setup lang="ts">
// A run: live while it works, its record once it is closed. The page is drawn
// from the run as the service adds it up, then follows its event stream.
import { mdiCheckCircle, mdiCloseCircle, mdiArchiveCheck, mdiArchiveOff, mdiCheckDecagram, mdiAlertDecagram } from '@mdi/js'
import { computed, watch, defineAsyncComponent, onMounted, onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, problem, send, type Card, type Problem, type Progress, type Run, type RunEvent } from '../api/client'
import { allLinks } from '../lists'
import { gates } from '../api/names'
import { backs, coloursOf } from '../hands'
import ActionBoard from '../parts/ActionBoard.vue'
import AdviceBoard from '../parts/AdviceBoard.vue'
import LineTrace from '../parts/LineTrace.vue'
import FoundLeft from '../parts/FoundLeft.vue'
import DigestText from '../parts/DigestText.vue'
import ItemAnswer from '../parts/ItemAnswer.vue'
import NextSteps from '../parts/NextSteps.vue'
import LayAside from '../parts/LayAside.vue'
import LineOfStops from '../parts/LineOfStops.vue'
import OwedList from '../parts/OwedList.vue'
import PartsLine from '../parts/PartsLine.vue'
import SectorStrip from '../parts/SectorStrip.vue'
import SetupTable from '../parts/SetupTable.vue'
import { rideOf, stopsOf } from '../parts/stops'
import Trouble from '../parts/Trouble.vue'
import UnitPlate from '../parts/UnitPlate.vue'
import WiringDraw from '../parts/WiringDraw.vue'
import { session } from '../session'
import { answers as answerWords, cap, clock, factNames, hows, jobWords, kib, listed, minutes, outcomes, say, sources, when, zone } from '../words'

const RateChart = defineAsyncComponent(() => import('../parts/RateChart.vue'))

const props = defineProps<{ id: string }>()
const router = useRouter()
const run = ref<Run | null>(null)
const progress = ref<Progress | null>(null)
const events = ref<RunEvent[]>([])
const trouble = ref<Problem | null>(null)
const said = ref<Problem | null>(null)
const lost = ref<Date | null>(null)
const now = ref(Date.now())
const heard = ref(Date.now())
const asking = ref(false)
const stopping = ref(false)
const aside = ref(false)
const ending = ref(false)
const ended = ref('')
const lastStep = ref('identify')
let source: EventSource | null = null
let timer = 0

async function load() {
  try {
    const { data, error } = await api.GET('/api/runs/{run}', { params: { path: { run: props.id } } })
    if (error) throw error
    takeRun(data)
    trouble.value = null
    return true
  } catch (e) {
    if (!run.value) trouble.value = problem(e)
    return false
  }
}

// An answer that was on its way for long tells of what was before: what is known already stays.
function takeRun(r: Run) {
  if (run.value && (progress.value?.last ?? 0) > r.progress.last) return
  run.value = r
  take(r.progress, true)
}

function take(p: Progress, whole = false) {
  heard.value = Date.now()
  if (whole) events.value = p.events
  else {
    const have = events.value[events.value.length - 1]?.n ?? 0
    events.value = [...events.value, ...p.events.filter((e) => e.n > have)]
  }
  progress.value = p
  const step = p.fault?.step ?? p.view.step
  lastStep.value = step === 'paused' || step === 'ended' ? p.view.at : step
}

function follow() {
  source?.close()
  source = new EventSource(`/api/runs/${props.id}/events?after=${progress.value?.last ?? 0}`)
  source.onopen = () => (lost.value = null)
  source.onerror = () => {
    lost.value ??= new Date()
    if (source?.readyState === EventSource.CLOSED) setTimeout(follow, 1000)
  }
  source.addEventListener('progress', (m) => {
    lost.value = null
    const p = JSON.parse(m.data) as Progress
    if ((progress.value?.last ?? 0) > p.last) return
    const before = progress.value?.view
    take(p)
    if (p.view.step === 'ended') {
      source?.close()
      load()
    } else if (p.view.board !== before?.board || !run.value?.sectors.length !== !p.states || p.events.some((e) => ['settings-laid', 'answered', 'saved', 'settled'].includes(e.kind))) load()
  })
}

onMounted(async () => {
  timer = window.setInterval(() => {
    now.value = Date.now()
    if (run.value?.state !== 'closed' && now.value - heard.value > 6000) load()
  }, 1000)
  for (;;) {
    if (await load()) break
    await new Promise((r) => setTimeout(r, 1000))
    if (trouble.value?.kind === 'not-found') return
  }
  if (run.value?.state !== 'closed') follow()
  if (run.value?.procedure || run.value?.state !== 'closed') card.value = (await api.GET('/api/card', { params: { query: { at: run.value!.unit.id } } })).data ?? null
})
onUnmounted(() => {
  source?.close()
  clearInterval(timer)
})

const view = computed(() => progress.value?.view)
const colours = ref<Record<string, string>>({})
const label = ref('')
const turn = computed(() => (closed.value ? null : (view.value?.hands ?? null)))
const item = computed(() => view.value?.item ?? null)
const card = ref<Card | null>(null)
const waiving = ref(false)
const why = ref('')

async function answer(value: string, note: string, photo: File | null, handed?: { whose: string; due: string }) {
  asking.value = true
  said.value = null
  try {
    const kept = photo ? (await send<{ digest: string }>(`/api/evidence?kind=${encodeURIComponent(photo.type)}`, photo)).digest : ''
    const { data, error } = await api.POST('/api/runs/{run}/answers', { params: { path: { run: props.id } }, body: { item: item.value!.id, value, ...(note && { note }), ...(handed ?? {}), ...(kept && { photo: kept }), ...(item.value!.do === 'wires' && { wires: coloursOf(card.value?.wiring, colours.value) }) } })
    if (error) throw error
    takeRun(data)
  } catch (e) {
    said.value = problem(e)
  }
  asking.value = false
}

// A lead goes on by name at a gate that cannot be met.
async function waive() {
  asking.value = true
  try {
    const r = run.value!
    const { data, error } = await api.POST('/api/runs', { body: { kind: 'flash', at: r.unit.link ?? r.link, release: r.release, label: r.unit.serial, reason: why.value, waive: [progress.value!.fault!.gate!] } })
    if (error) throw error
    router.push(`/runs/${data.id}`)
  } catch (e) {
    said.value = problem(e)
  }
  waiving.value = false
  asking.value = false
}
const paused = computed(() => run.value?.state === 'paused' || progress.value?.outcome === 'interrupted')
const closed = computed(() => run.value?.state === 'closed')
const laid = computed(() => (closed.value ? null : (view.value?.laid ?? null)))
const stops = computed(() => (run.value && view.value ? stopsOf(run.value, view.value, closed.value && run.value.outcome === 'done' ? 'ended' : lastStep.value) : []))
const since = computed(() => (now.value - heard.value) / 1000)
const touch = computed(() => {
  const t = view.value?.touch ?? -1
  return t < 0 ? -1 : Math.max(0, t / 1e6 - since.value)
})
const late = computed(() => view.value?.board === 'hands-off' && since.value > 8)
const wrote = computed(() => events.value.find((e) => e.kind === 'same-unit' || e.kind === 'about-to'))
const share = computed(() => {
  if (!wrote.value || touch.value < 0) return 1
  const spent = Math.max(0.1, (now.value * 1000 - wrote.value.at) / 1e6)
  return touch.value / (touch.value + spent)
})

// What the board says comes from the service; how it is drawn follows from the run.
const board = computed(() => {
  const v = view.value
  const r = run.value
  if (!v || !r) return null
  const drawn = closed.value ? (v.board === 'stopped' ? 'stopped' : r.outcome === 'not-proven' ? 'unproven' : 'ended') : paused.value && !turn.value ? 'stopped' : v.board
  const amount = v.step === 'backup' && v.total && v.board === 'reading' ? v.left >= 0 ? say('{1} of {2}, {3} left.', kib(v.done), kib(v.total), minutes(v.left / 1e6)) : say('{1} of {2}.', kib(v.done), kib(v.total)) : ''
  return { board: drawn as 'hands-off' | 'hands-on' | 'reading' | 'waiting' | 'stopped' | 'ended' | 'unproven', head: v.head.text, sentence: amount ? `${amount} ${v.sentence.text}` : v.sentence.text }
})
const under = computed(() => {
  const v = view.value
  if (!v || v.board !== 'hands-off') return ''
  if (late.value) return say('Longer than usual, still alive: last word {1} s ago', Math.round(since.value))
  if (v.step === 'verify') return say('Verify {1} left', minutes(Math.max(0, v.left / 1e6 - since.value)))
  return say('Flash {1} left, then verify {2}', minutes(Math.max(0, v.left / 1e6 - since.value)), minutes((v.touch - v.left) / 1e6))
})

const points = computed<[number, number][]>(() => {
  // Payload over the last four seconds or so, from one done action to another.
  const done: [number, number][] = []
  let start = 0
  for (const e of events.value) {
    if (e.kind === 'about-to' && !start) start = e.mono
    const b = e.body as { bytes: number; erase?: boolean }
    if (e.kind === 'done' && !b.erase) done.push([e.mono, b.bytes])
  }
  const out: [number, number][] = []
  done.forEach(([t], i) => {
    let from = i
    while (from > 0 && t - done[from]![0] < 4e6) from--
    const since = from > 0 || t - done[0]![0] >= 4e6 ? done[from]![0] : start
    const bytes = done.slice(since === start ? 0 : from + 1, i + 1).reduce((n, [, x]) => n + x, 0)
    if (t > since) out.push([(t - start) / 1e6, (bytes / (t - since)) * 1e6])
  })
  return out
})
const tales = computed(() => events.value.map((e) => ({ e, words: e.text })).filter((x) => x.words))
const all = ref(false)
const shown = computed(() => (all.value ? [...tales.value].reverse() : tales.value.slice(-6).reverse()))

// A run that has stopped with the unit half done, and nothing that went on from there.
const stopped = computed(() => !!run.value && !turn.value && ((paused.value && !!progress.value?.fault) || (closed.value && view.value?.board === 'stopped' && run.value.unit.state === 'half-done' && !run.value.unit.run)))
const first = ref('')
const slower = ref(false) // to go on is advised at the speed at which its loader is called
function advised(what: string, slow: boolean) {
  first.value = what
  slower.value = slow
}
function choose(what: string, slower: boolean) {
  if (what === 'restore') putBack()
  else if (closed.value) router.push(`/begin/${run.value!.unit.link ?? run.value!.link}`)
  else order('resume', slower)
}

// A change for a while that no procedure names.
const lending = ref(false)
const lent = ref('')
async function borrow() {
  asking.value = true
  said.value = null
  const { error } = await api.POST('/api/runs/{run}/borrowed', { params: { path: { run: props.id } }, body: { says: lent.value } })
  if (error) said.value = problem(error)
  lending.value = false
  lent.value = ''
  asking.value = false
  load()
}

// A run that was laid aside may go on at another link, also at another bench.
const elsewhere = ref('')
const others = ref<string[]>([])
watch(laid, async (is) => {
  if (is) others.value = (await allLinks().catch(() => [])).filter((l) => l.state === 'free' && l.link !== run.value?.link).map((l) => l.link)
}, { immediate: true })

async function order(what: 'stop' | 'resume', slower = false) {
  asking.value = true
  said.value = null
  const path = { params: { path: { run: props.id } } }
  try {
    const { error } = what === 'stop' ? await api.POST('/api/runs/{run}/stop', path) : await api.POST('/api/runs/{run}/resume', { ...path, body: { ...(label.value && { label: label.value }), ...(elsewhere.value && { at: elsewhere.value }), ...(slower && { slower }) } })
    if (error) throw error
    stopping.value = false
    await load()
    follow()
  } catch (e) {
    said.value = problem(e)
  }
  asking.value = false
}

async function layAside(place: string, holder: string, why: string) {
  asking.value = true
  said.value = null
  try {
    const { error } = await api.POST('/api/runs/{run}/lay-aside', { params: { path: { run: props.id } }, body: { place, holder, ...(why && { why }) } })
    if (error) throw error
    await load()
    follow()
  } catch (e) {
    said.value = problem(e)
  }
  aside.value = false
  asking.value = false
}

// Whoever gives a run up closes it by name; a lead does so, too, where its bench is gone.
async function giveUp() {
  asking.value = true
  said.value = null
  const call = { params: { path: { run: props.id } }, body: { reason: ended.value } }
  try {
    const { error } = run.value!.online ? await api.POST('/api/runs/{run}/abandon', call) : await api.POST('/api/runs/{run}/release', call)
    if (error) throw error
    await load()
  } catch (e) {
    said.value = problem(e)
  }
  ending.value = false
  asking.value = false
}

async function putBack() {
  asking.value = true
  said.value = null
  try {
    const { data, error } = await api.POST('/api/runs', { body: { kind: 'restore', at: run.value!.unit.link ?? run.value!.link } })
    if (error) throw error
    router.push(`/runs/${data.id}`)
  } catch (e) {
    said.value = problem(e)
  }
  asking.value = false
}
</script>

<template>
  <div v-if="trouble" class="page"><Trouble :problem="trouble" /></div>
  <template v-else-if="run && view && board">
    <LineOfStops :stops="stops" :ride="closed || paused ? 0 : rideOf(view)" />
    <ActionBoard :board="board.board" :head="board.head" :sentence="board.sentence" :seconds="late ? -1 : touch" :share="share" :under="under" :data-outcome="run.outcome">
      <div v-if="paused && session.may('technician')" class="row ways">
        <input v-if="run.relabel" v-model="label" class="label" aria-label="Serial on the unit's label, read again" placeholder="Serial on its label" data-label />
        <select v-if="laid" v-model="elsewhere" class="label" aria-label="Where it is plugged in now" data-elsewhere><option value="">{{ say('on {1}', run.link) }}</option><option v-for="l in others" :key="l" :value="l">{{ say('on {1}', l) }}</option></select>
        <v-btn :color="first && first !== 'go-on' ? undefined : 'surface'" :variant="first && first !== 'go-on' ? 'outlined' : 'flat'" size="large" :loading="asking" :disabled="run.relabel && !label.trim()" data-resume @click="order('resume', slower)">{{ view.touched ? (slower ? 'Go on with the write, slower' : 'Go on with the write') : slower ? 'Go on, slower' : 'Go on' }}</v-btn>
        <v-btn v-if="!laid" variant="outlined" size="large" :disabled="asking" data-aside @click="aside = true">Lay it aside…</v-btn>
        <v-btn v-if="run.backup && view.changes" variant="outlined" size="large" :disabled="asking" data-restore @click="putBack">Put its backup back</v-btn>
        <v-btn variant="text" size="large" :disabled="asking" data-give-up @click="ending = true">Give it up…</v-btn>
      </div>
      <div v-else-if="closed && board.board === 'stopped' && session.may('technician') && run.unit.state === 'half-done'" class="row ways">
        <v-btn color="surface" size="large" :loading="asking" data-restore @click="putBack">Put its backup back</v-btn>
        <v-btn variant="outlined" size="large" :to="`/begin/${run.unit.link ?? run.link}`">Write again</v-btn>
      </div>
      <template v-if="turn">
        <ul v-if="item?.signs?.length" class="signs"><li v-for="g in item.signs" :key="g.says.en"><v-icon :icon="g.not ? mdiCloseCircle : mdiCheckCircle" size="24" /> <span><strong>{{ g.not ? 'Not right:' : 'Right:' }}</strong> {{ g.says.en }}</span></li></ul>
        <ItemAnswer v-if="item && !turn.calling && session.may('technician')" :key="item.id" :item="item" :busy="asking" :lead="session.may('lead')" :back="view.back" @answer="answer" />
      </template>
      <p v-if="progress?.fault?.gate && closed && session.may('lead')" class="next"><v-btn variant="outlined" size="large" data-waive @click="waiving = true">Go on by name…</v-btn></p>
      <NextSteps v-if="progress?.fault && (paused || closed)" :todo="progress.fault" class="next" />
      <p v-if="progress?.fault && (paused || closed) && session.may('technician')" class="next"><v-btn variant="text" :href="`/api/runs/${run.id}/support.zip`" :download="`run-${run.id.slice(0, 8)}.zip`" data-support>One file for whoever helps</v-btn></p>
      <div v-if="run.after" class="next after" data-after>{{ run.after.text }}<NextSteps :todo="run.after" /></div>
    </ActionBoard>
    <div v-if="view.warn && !closed" class="lost" role="alert" data-warn><strong>Warning.</strong> {{ view.warn.text }}</div>
    <div v-else-if="view.conditions?.length && !closed" class="lost conditions" data-conditions>{{ say('What the unit says: {1}.', view.conditions.map((c) => `${c.name.replaceAll('-', ' ')} ${c.value} ${c.unit ?? ''}`.trim()).join(', ')) }}</div>
    <div v-if="lost && !closed" class="lost" role="status">{{ say('No word from the service since {1} {2}; asking again. The run goes on at the bench.', clock(lost), zone(lost)) }}</div>
    <div v-if="!run.online && !closed" class="lost row" role="status"><span>{{ say('Bench {1} is out of touch with the service. If it is alive, the run goes on there.', run.bench) }}</span><v-btn v-if="session.may('lead') && !paused" variant="outlined" data-give-up @click="ending = true">It does not come back: give the run up…</v-btn></div>
    <div class="page body">
      <Trouble v-if="said" :problem="said" />
      <WiringDraw v-if="turn && item?.at === 'connect' && card?.wiring" v-model:colours="colours" :wiring="card.wiring" :unit="run.unit.serial" :supply="card.supply" :edit="item.do === 'wires' && session.may('technician')" :seen="card.wires" />
      <PartsLine v-if="view.parts?.length" :parts="view.parts" />
      <SectorStrip v-if="run.sectors.length && progress?.states" :sectors="run.sectors" :states="progress.states" :rests="run.state !== 'open'" />
      <AdviceBoard v-if="stopped" :run="run.id" :unit="run.unit.id" :at="progress?.last ?? 0" @choose="choose" @changed="load" @first="advised" />
      <LineTrace v-if="view.traces && session.may('technician')" :run="run.id" :count="view.traces" />
      <SetupTable v-if="run.setup" :setup="run.setup" />
      <div class="four">
        <section>
          <UnitPlate :unit="run.unit" :note="`${run.from || '?'} → ${run.to || run.version || '?'} ${run.channel ?? ''}`" />
          <p v-if="jobWords(run)" class="small job" data-job-of><router-link v-if="run.job && !run.ownJob" :to="`/jobs/${run.job}`">{{ jobWords(run) }}</router-link><template v-else>{{ jobWords(run) }}</template></p>
          <p class="small"><router-link :to="`/units/${run.unit.id}`">All of this unit</router-link></p>
        </section>
        <section v-if="run.kind !== 'backup' && run.kind !== 'settings'">
          <div class="row spread"><h2 class="counts">{{ (view.rate / 1024).toFixed(1) }} KiB/s</h2><span class="small muted">{{ view.line ? say('{1} % of the line', Math.round((view.rate / view.line) * 100)) : '' }}</span></div>
          <RateChart v-if="points.length" :points="points" :line="view.line" />
          <p v-else class="small muted">Drawn once memory is written.</p>
        </section>
        <section>
          <h3 class="muted">Way back</h3>
          <template v-if="run.backup">
            <div class="way"><v-icon :icon="mdiArchiveCheck" size="32" color="secondary" /><strong class="lead">{{ run.backupId ? 'Full backup, stored' : 'Full backup' }}</strong></div>
            <p class="small">{{ run.backupBytes ? `${kib(run.backupBytes)}, ` : '' }}{{ hows[run.backupHow ?? ''] ?? say('from {1}', run.backupHow) }}</p>
            <DigestText :digest="run.backup" />
          </template>
          <template v-else-if="run.waiver"><div class="way brick"><v-icon :icon="mdiArchiveOff" size="32" /><strong class="lead">{{ cap(backs[view.wayBack ?? 'none'] ?? '') }}</strong></div><p class="small">{{ say('In the name of {1}: {2}. {3}', run.waivedBy, gates[run.waiver.gate] ?? run.waiver.gate, run.waiver.reason) }}</p>
            <details v-if="run.settings && !run.setup" class="small"><summary>{{ listed(say('{1} settings kept', run.settings.settings?.length), run.settled && say('{1} put back', run.settled.back)) }}</summary><ul class="rows"><li v-for="x in run.settings.settings ?? []" :key="x.name" :class="{ brick: run.settled?.differ?.includes(x.name) }"><span class="mono">{{ x.name }}</span> {{ listed(x.value, run.settled?.differ?.includes(x.name) && 'not taken') }}</li></ul></details></template>
          <div v-else class="way"><v-icon :icon="mdiArchiveOff" size="32" /><span>{{ card && card.wayBack !== 'full' ? cap(backs[card.wayBack] ?? '') : 'None yet; nothing is erased before there is one.' }}</span></div>
          <OwedList v-if="view.owed?.length" :owed="view.owed" :closed="closed" />
        </section>
        <section>
          <div class="row spread"><h3>{{ say('Events, {1}', zone(new Date())) }}</h3><v-btn v-if="tales.length > 6" variant="text" color="primary" class="all" @click="all = !all">{{ all ? 'Fewer' : say('All {1}', tales.length) }}</v-btn></div>
          <ol class="events small"><li v-for="x in shown" :key="x.e.n"><span class="mono muted">{{ clock(new Date(x.e.at / 1000)) }}</span> {{ x.words }}</li></ol>
        </section>
      </div>
      <template v-if="closed && run.record">
        <hr class="rule gap" />
        <div class="row spread record">
          <h2>Record</h2>
          <span v-if="run.signed" class="teal seal"><v-icon :icon="mdiCheckDecagram" /> {{ say('signed by bench {1}', run.bench) }}</span>
          <span v-else class="brick seal"><v-icon :icon="mdiAlertDecagram" /> not signed by its bench</span>
        </div>
        <div class="columns">
          <div><table class="plain"><tbody>
            <tr><td class="muted">Outcome</td><td><strong>{{ outcomes[run.record.outcome] }}</strong><div class="small">{{ run.record.reason }}</div></td></tr>
            <tr v-if="jobWords(run)"><td class="muted">Why</td><td>{{ jobWords(run) }}</td></tr>
            <tr v-if="run.given"><td class="muted">This run</td><td>{{ run.given }}</td></tr>
            <tr><td class="muted">By</td><td>{{ run.by }}</td></tr>
            <tr><td class="muted">Opened</td><td>{{ when(run.opened) }}</td></tr>
            <tr><td class="muted">Closed</td><td>{{ when(run.closed) }}</td></tr>
            <tr v-if="run.record.card"><td class="muted">Procedure</td><td>{{ say('{1}, edition {2}', ...run.record.card.split('/')) }}</td></tr>
            <tr v-for="l in run.record.left ?? []" :key="l.section"><td class="muted">Left as it is</td><td>{{ l.section }}: {{ l.why }}</td></tr>
            <tr v-for="t in run.record.tests ?? []" :key="t.item"><td class="muted">Test</td><td>{{ t.says }} <strong>{{ answerWords[t.value] ?? t.value }}</strong> {{ t.note }}<template v-if="t.whose">{{ say(' {1}, until {2}', t.whose, t.due) }}</template></td></tr>
            <tr v-for="w in run.record.waived ?? []" :key="w.gate"><td class="muted">By name</td><td>{{ gates[w.gate] ?? w.gate }}: {{ w.reason }}</td></tr>
            <tr v-for="u in run.record.undone ?? []" :key="u"><td class="muted">Left undone</td><td class="brick">{{ u }}</td></tr>
            <tr v-for="a in run.answers" :key="a.item + a.at"><td class="muted">{{ clock(a.at) }}</td><td class="small">{{ a.says }} <strong>{{ answerWords[a.value] && a.stage === 'left' ? answerWords[a.value] : a.value }}</strong> {{ a.note }}<template v-if="a.whose">{{ say(' {1}, until {2}', a.whose, a.due) }}</template> {{ Object.entries(a.wires ?? {}).map(([pin, c]) => `${pin} ${c}`).join(', ') }} <span class="muted">{{ a.by }}</span> <a v-if="a.photo" :href="`/api/evidence/${a.photo}`" target="_blank">picture</a></td></tr>
            <tr v-if="run.halves > 1"><td class="muted">Taken up again</td><td>{{ run.halves - 1 }}×</td></tr>
          </tbody></table></div>
          <div><table class="plain"><thead><tr><th /><th>as found</th><th>as left</th></tr></thead><tbody>
            <tr><td class="muted">Runs</td><td class="mono">{{ run.record.from || 'not read' }}</td><td class="mono"><strong>{{ run.record.to || 'not read' }}</strong></td></tr>
            <tr v-for="f in (run.record.facts ?? []).filter((x) => ['revision', 'region', 'chip', 'serial'].includes(x.name))" :key="f.name"><td class="muted">{{ factNames[f.name] }}</td><td>{{ f.value }}<div class="small muted">{{ sources[f.source] }}</div></td><td class="small muted">not changed by a run</td></tr>
          </tbody></table></div>
          <div><table class="plain"><tbody>
            <tr v-if="run.record.adapter"><td class="muted">Adapter</td><td class="mono">{{ run.record.adapter }}</td></tr>
            <tr v-if="run.record.reference"><td class="muted">Backup</td><td>{{ say('by reference: it ran {1}', run.record.reference) }}</td></tr>
            <tr v-if="run.record.verified"><td class="muted">Verified</td><td>{{ hows[run.record.verified] ?? run.record.verified }}</td></tr>
            <tr><td class="muted">Identity</td><td>{{ run.record.identity || 'not identified' }}</td></tr>
            <tr v-for="i in run.record.images ?? []" :key="i"><td class="muted">Image</td><td><DigestText :digest="i" /></td></tr>
            <tr v-for="o in run.record.obtained ?? []" :key="o.how"><td class="muted">Backup</td><td>{{ kib(o.bytes) }} {{ o.how === 'wire' ? 'read on the wire' : 'known by the unit’s digest' }}</td></tr>
            <tr><td class="muted">Journal</td><td><DigestText :digest="run.record.journal" /></td></tr>
          </tbody></table></div>
        </div>
        <section v-if="run.sides.length" class="seen"><h2>As found, as left</h2><FoundLeft :sides="run.sides" /></section>
      </template>
    </div>
    <footer v-if="!closed && !paused" class="foot">
      <span class="lead"><strong>{{ turn ? 'The tool waits for you.' : view.board === 'hands-off' ? 'Nothing for you to do.' : 'Reading only.' }}</strong> {{ turn ? 'Nothing goes on before your answer.' : view.board === 'hands-off' ? 'The unit starts its program by itself at the end.' : 'You may leave this page; the bench goes on.' }}</span>
      <v-btn v-if="session.may('technician')" variant="text" data-borrow @click="lending = true">I changed something else…</v-btn>
      <v-btn v-if="session.may('technician') && view.board !== 'hands-off'" variant="text" data-aside @click="aside = true">Lay it aside…</v-btn>
      <v-btn v-if="session.may('technician')" variant="outlined" data-stop @click="stopping = true">{{ view.board === 'hands-off' ? 'Stop after this sector…' : 'Stop…' }}</v-btn>
    </footer>
    <v-dialog v-model="waiving" max-width="560">
      <v-card>
        <v-card-title>Go on without a way back?</v-card-title>
        <v-card-text><p>{{ cap(progress?.fault?.message ?? '') }}</p><v-text-field v-model="why" label="Why, in the record under your name" data-why /></v-card-text>
        <v-card-actions><v-spacer /><v-btn variant="text" @click="waiving = false">Leave it</v-btn><v-btn color="error" variant="outlined" :disabled="why.trim().length < 3" :loading="asking" data-waive-yes @click="waive">Write it all the same</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
    <v-dialog v-model="ending" max-width="560">
      <v-card>
        <v-card-title>Give this run up?</v-card-title>
        <v-card-text><p>{{ progress?.ifGivenUp?.text }}</p><v-text-field v-model="ended" label="Why, in the unit’s history under your name" data-field="why" /></v-card-text>
        <v-card-actions><v-spacer /><v-btn variant="text" @click="ending = false">Leave it open</v-btn><v-btn color="error" variant="outlined" :disabled="ended.trim().length < 3" :loading="asking" data-give-up-yes @click="giveUp">Give it up</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
    <v-dialog v-model="lending" max-width="560">
      <v-card>
        <v-card-title>What did you change for a while?</v-card-title>
        <v-card-text><p>A plug that you borrowed, a cover that you took off, a lead that you moved: the run asks for it at its end, and closes once it is back.</p><v-text-field v-model="lent" label="What is to be put back" data-lent /></v-card-text>
        <v-card-actions><v-spacer /><v-btn variant="text" @click="lending = false">Nothing</v-btn><v-btn color="primary" variant="outlined" :disabled="lent.trim().length < 3" :loading="asking" data-lent-yes @click="borrow">Note it</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
    <LayAside v-model="aside" :busy="asking" @aside="layAside" />
    <v-dialog v-model="stopping" max-width="520">
      <v-card>
        <v-card-title>Stop this run?</v-card-title>
        <v-card-text>{{ progress?.ifStopped?.text }}</v-card-text>
        <v-card-actions><v-spacer /><v-btn variant="text" @click="stopping = false">Let it go on</v-btn><v-btn color="error" variant="outlined" :loading="asking" data-stop-yes @click="order('stop')">Stop</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
  </template>
  <div v-else class="page"><v-skeleton-loader type="heading, image, list-item-three-line" color="background" /></div>
</template>

<style scoped>
.body { padding-top: 12px; padding-bottom: 110px; }
.four { display: grid; grid-template-columns: auto 1fr 1fr 1.2fr; gap: 28px; margin-top: 20px; }
.four > * + * { border-left: 1px solid var(--line); padding-left: 24px; }
.way { display: flex; gap: 8px; align-items: center; }
.ways { margin: 12px 0 8px; gap: 16px; }
.next { max-width: 80ch; }
.signs { list-style: none; margin-top: 8px; }
.signs li { display: flex; gap: 8px; font-size: 18px; }
.events { list-style: none; }
.events li { border-bottom: 1px solid var(--line); padding: 6px 0; }
.all { height: 44px; margin: -10px 0; }
h3 { font-size: 15px; }
.gap { margin: 24px 0 16px; }
.label { height: 48px; min-width: 200px; padding: 0 12px; border: 2px solid currentColor; border-radius: 4px; font: 18px var(--mono); color: inherit; }
.label::placeholder { color: inherit; }
.job { margin-top: 6px; max-width: 32ch; }
.seen { margin-top: 28px; max-width: 980px; }
.seal { display: inline-flex; gap: 6px; font-weight: 700; }
.lost { background: rgb(var(--v-theme-tint-amber)); padding: 10px 24px; font-weight: 700; }
.conditions { background: transparent; font-weight: 400; padding-bottom: 0; }
.foot { position: fixed; bottom: 0; left: 0; right: 0; background: rgb(var(--v-theme-surface)); border-top: 1px solid var(--line); display: flex; justify-content: space-between; align-items: center; gap: 16px; padding: 12px 24px; z-index: 4; }
@media (max-width: 1000px) {
  .four { grid-template-columns: minmax(0, 1fr); }
  .four > * + * { border-left: 0; padding-left: 0; border-top: 1px solid var(--line); padding-top: 12px; }
}
@media (max-width: 600px) { .foot { flex-direction: column; align-items: stretch; } }
</style>
