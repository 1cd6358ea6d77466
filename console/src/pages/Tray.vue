<script setup lang="ts">
// A tray: where each of its units is on the line, the one hand that is wanted first, what must
// not be touched, and each place as it lies on the bench.
import { mdiAlert, mdiBarcode, mdiCheckCircle, mdiCircleHalfFull, mdiCircleOffOutline, mdiCircleOutline, mdiCloseBox, mdiCloseCircle, mdiEyeOutline, mdiFerry, mdiFlagTriangle, mdiHandBackRight, mdiMinusCircleOutline, mdiPrinterOutline, mdiRestart } from '@mdi/js'
import { computed, ref } from 'vue'

import { api, problem, send, type Problem, type Tray, type TrayPlace } from '../api/client'
import { every } from '../every'
import ItemAnswer from '../parts/ItemAnswer.vue'
import Says from '../parts/Says.vue'
import { place as stopOf, words as stops } from '../parts/stops'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { kib, minutes, say, sayOf, seats, sentence, when } from '../words'

const props = defineProps<{ id: string }>()
const tray = ref<Tray | null>(null)
const trouble = ref<Problem | null>(null)
const said = ref<Problem | null>(null)
const since = ref<Date | null>(null)
const busy = ref('')
const reason = ref('')
const asking = ref<{ do: 'leave' | 'again' | 'stop' | 'go-on' | 'close'; unit?: string; words: string } | null>(null)
const label = ref('')

async function load() {
  if (busy.value) return
  try {
    const { data, error } = await api.GET('/api/trays/{tray}', { params: { path: { tray: props.id } } })
    if (busy.value) return
    if (error) throw error
    tray.value = data
    trouble.value = null
    since.value = null
  } catch (e) {
    since.value ??= new Date()
    if (!tray.value) trouble.value = problem(e)
  }
}
every(1500, load)

type Do = 'next' | 'leave' | 'again' | 'stop' | 'go-on' | 'close'
async function step(what: Do, more: { link?: string; unit?: string } = {}) {
  busy.value = what
  said.value = null
  const { data, error } = await api.POST('/api/trays/{tray}/step', { params: { path: { tray: props.id } }, body: { do: what, ...more, ...(reason.value && { reason: reason.value }) } })
  busy.value = ''
  if (error) {
    said.value = problem(error)
    return
  }
  tray.value = data
  reason.value = ''
  label.value = ''
  asking.value = null
}

const hand = computed(() => tray.value?.hand)
// Places that wait for the very same thing, which can be said of all of them at once.
const alike = computed(() => {
  const h = hand.value
  const same = tray.value?.hands.find((x) => x.waits.includes(h?.place ?? 0))
  return h?.item?.do === 'confirm' && !h.item.test && !h.hands.calling ? (same?.waits ?? []) : []
})
async function answer(runs: string[], value: string, note: string, photo: File | null, handed?: { whose: string; due: string }) {
  const item = hand.value!.hands.item
  busy.value = 'answer'
  said.value = null
  try {
    const kept = photo ? (await send<{ digest: string }>(`/api/evidence?kind=${encodeURIComponent(photo.type)}`, photo)).digest : ''
    for (const run of runs) {
      const { error } = await api.POST('/api/runs/{run}/answers', { params: { path: { run } }, body: { item, value, ...(note && { note }), ...(handed ?? {}), ...(kept && { photo: kept }) } })
      if (error) throw error
    }
  } catch (e) {
    said.value = problem(e)
  }
  busy.value = ''
  load()
}

const may = computed(() => session.may('technician') && !!tray.value && !tray.value.closed)
const off = computed(() => tray.value?.places.filter((p) => p.state === 'hands-off') ?? [])
const longest = computed(() => Math.max(-1, ...off.value.map((p) => p.touch ?? -1)))
const at = (n: number) => tray.value!.places[n - 1]!
const ended = ['done', 'current', 'left-out']
// Where a place stands on the line: -1 before it, 7 past it.
function stop(p: TrayPlace): number {
  if (p.state === 'not-seen' || p.state === 'again') return -1
  if (p.state === 'refused') return 1
  if (p.state === 'not-proven') return 6
  return ended.includes(p.state) ? 7 : Math.min(6, stopOf[p.step ?? ''] ?? 0)
}
const on = (n: number) => tray.value?.places.filter((p) => stop(p) === n) ?? []
const icons: Record<string, string> = { done: mdiCheckCircle, current: mdiMinusCircleOutline, 'not-proven': mdiCircleOffOutline, failed: mdiCloseBox, refused: mdiCloseCircle, 'half-done': mdiCircleHalfFull, 'hands-off': mdiFerry, 'at-work': mdiFerry, waits: mdiHandBackRight, again: mdiRestart, 'left-out': mdiMinusCircleOutline, 'not-seen': mdiCircleOutline }
const once = (p: TrayPlace) => ['failed', 'refused', 'not-proven', 'left-out'].includes(p.state)
function ask(what: 'leave' | 'again' | 'stop' | 'go-on' | 'close', words: string, unit?: string) {
  asking.value = { do: what, words, ...(unit && { unit }) }
  reason.value = ''
}
</script>

<template>
  <div class="band">
    <div class="page head">
      <div>
        <h1><template v-if="tray">{{ say('Tray of {1} × {2}', tray.units, tray.modelName) }} <span class="mono version">→ {{ tray.version }}</span></template><template v-else>Tray</template></h1>
        <p v-if="tray" class="muted">{{ sentence(tray.reason) }} <router-link :to="`/jobs/${tray.job}`">{{ say('Job {1}', tray.job) }}</router-link>, {{ tray.by }}, {{ when(tray.at) }}</p>
      </div>
      <div v-if="tray" class="row right">
        <v-btn variant="outlined" :prepend-icon="mdiPrinterOutline" :href="`/api/trays/${tray.id}/sheet.pdf`" target="_blank" data-sheet>Sheet</v-btn>
        <v-btn v-if="(tray.count.done ?? 0) + (tray.count.current ?? 0) > 0" variant="outlined" :prepend-icon="mdiBarcode" :href="`/api/trays/${tray.id}/labels.pdf`" target="_blank" data-labels>Labels</v-btn>
      </div>
      <p v-if="tray" class="muted right">{{ sayOf('Bench {2}, on {1} link', 'Bench {2}, on {1} links', tray.links.length, tray.bench) }}<span v-if="!tray.online" class="brick block">Not in touch: this is what it said last</span></p>
    </div>
  </div>
  <div v-if="trouble" class="page"><Trouble :problem="trouble" /></div>
  <template v-if="tray">
    <p v-if="since" class="page brick" role="status">{{ say('The service does not answer since {1}; what stands here is from before.', when(since.toISOString())) }}</p>
    <ol class="line" aria-label="Where the places are">
      <li class="before"><span class="word">not seen</span><span class="chips"><span v-for="p in on(-1)" :key="p.n" class="n" :class="p.state">{{ p.n }}</span></span></li>
      <li v-for="(w, i) in stops" :key="w" :class="{ here: on(i).length }"><span class="word">{{ w }}</span><span class="chips"><span v-for="p in on(i)" :key="p.n" class="n" :class="p.state">{{ p.n }}</span></span></li>
      <li class="after"><span class="word">closed</span><span class="chips"><span v-for="p in on(7)" :key="p.n" class="n" :class="p.state">{{ p.n }}</span></span></li>
    </ol>
    <div class="boards" role="region" aria-label="What to do now">
      <section v-if="hand" class="bg-hands-on board" aria-live="assertive" data-hand>
        <v-icon :icon="mdiHandBackRight" size="72" class="palm" />
        <div class="grow">
          <div class="lead"><Says v-if="hand.turns && !hand.hands.calling" text="{1}, {2} of {3}" :put="{ 2: hand.turn, 3: hand.turns }"><template #1><strong>HANDS ON: your turn</strong></template></Says><strong v-else>HANDS ON: your turn</strong></div>
          <div class="says" :class="{ long: hand.hands.says.length > 50 }"><span class="n waits">{{ hand.place }}</span> {{ hand.hands.says }}</div>
          <div class="mono">{{ at(hand.place).serial }}, {{ at(hand.place).link }}</div>
          <p v-if="hand.hands.calling" class="lead">Now: the tool is calling, and the unit's answer ends this.</p>
        </div>
        <div v-if="hand.item && !hand.hands.calling && may" class="answers">
          <ItemAnswer :key="hand.run + hand.item.id" :item="hand.item" :busy="busy === 'answer'" :lead="session.may('lead')" :back="hand.back" @answer="(...a) => answer([hand!.run], ...a)" />
          <v-btn v-if="alike.length > 1" variant="outlined" size="large" class="all" :disabled="busy === 'answer'" data-all @click="answer(alike.map((n) => at(n).run!), 'yes', '', null)">{{ say('Done for all that wait for it: {1}', alike.join(', ')) }}</v-btn>
        </div>
      </section>
      <section v-if="off.length" class="bg-hands-off board" aria-live="polite" data-off>
        <div class="grow">
          <div class="off"><span>{{ say('HANDS OFF {1}', off.map((p) => p.n).join(', ')) }}</span><span class="counts">{{ longest >= 0 ? minutes(longest / 1e6) : '…' }}</span></div>
          <p class="lead">{{ sayOf('Its memory is being written. Leave lead and supply alone.', 'Their memories are being written. Leave lead and supply alone.', off.length) }}</p>
          <div class="bar" />
        </div>
      </section>
      <section v-if="!hand && !off.length" class="quiet board" role="status" data-quiet>
        <v-icon :icon="tray.gate ? mdiAlert : tray.closed ? mdiCheckCircle : mdiEyeOutline" size="40" />
        <div class="grow">
          <strong class="lead">{{ tray.now.text }}</strong>
          <p v-if="tray.closed">{{ when(tray.closed) }}{{ tray.closing ? `: ${sentence(tray.closing)}` : '' }}</p>
        </div>
        <v-btn v-if="may && (tray.stopped || (tray.gate && tray.failures.length))" color="primary" size="large" data-go-on @click="ask('go-on', 'Why it goes on all the same')">Go on all the same…</v-btn>
      </section>
    </div>
    <div class="page">
      <Trouble v-if="said" :problem="said" />
      <form v-if="asking" class="row asking" @submit.prevent="step(asking.do, asking.unit ? { unit: asking.unit } : {})">
        <v-text-field v-model="reason" :label="asking.words" hide-details autofocus data-why />
        <v-btn type="submit" color="primary" :disabled="reason.trim().length < 3 && !(asking.do === 'close' && !tray.open.length)" :loading="!!busy" data-say>Say it</v-btn>
        <v-btn variant="text" @click="asking = null">Back</v-btn>
      </form>
      <div class="sides">
        <ul class="mosaic" data-places>
          <li v-for="p in tray.places" :key="p.n" class="seat" :class="p.state">
            <span v-if="tray.alone && p.n === tray.opener" class="pennant"><v-icon :icon="mdiFlagTriangle" size="16" /> first, alone</span>
            <div class="row top"><span class="n" :class="p.state">{{ p.n }}</span> <router-link :to="`/units/${p.unit}`" class="mono">{{ p.serial }}</router-link></div>
            <div class="stands"><v-icon :icon="icons[p.state]!" size="24" /> <strong>{{ seats[p.state] }}</strong></div>
            <p class="small">{{ sentence(p.says.text) }}</p>
            <p v-if="p.total" class="small counts"><Says text="{1} of {2}" :put="{ 2: kib(p.total) }"><template #1><strong>{{ kib(p.done ?? 0) }}</strong></template></Says></p>
            <div class="row foot small">
              <span v-if="p.from" class="mono">{{ p.from }}<template v-if="p.state === 'done'"> → <strong>{{ tray.version }}</strong></template></span>
              <router-link v-if="p.run" :to="`/runs/${p.run}`">run</router-link>
              <v-btn v-if="may && once(p)" variant="text" size="small" :data-again="p.serial" @click="ask('again', say('Why {1} is begun once more', p.serial), p.unit)">Once more</v-btn>
              <v-btn v-if="may && (p.state === 'not-seen' || (once(p) && p.state !== 'left-out'))" variant="text" size="small" :data-leave="p.serial" @click="ask('leave', say('Why {1} is left out', p.serial), p.unit)">Leave out</v-btn>
            </div>
          </li>
          <li v-if="!tray.places.length" class="seat not-seen"><p>Nobody has a place yet. Whatever is plugged in gets one.</p></li>
        </ul>
        <aside>
          <section v-if="tray.hands.length">
            <h2>Hands, for all of them</h2>
            <ul class="rows"><li v-for="h in tray.hands" :key="h.turn + h.says"><v-icon :icon="mdiHandBackRight" size="18" /> {{ h.says }} <span class="muted">{{ h.waits.join(', ') }}</span></li></ul>
          </section>
          <section v-if="tray.stop">
            <h2>{{ say('Stops after {1} of {2}', tray.stop, tray.units) }}</h2>
            <div class="row slots"><span v-for="i in tray.stop" :key="i" class="slot" :class="{ full: tray.failures[i - 1] }"><span v-if="tray.failures[i - 1]" class="n" :class="at(tray.failures[i - 1]!).state">{{ tray.failures[i - 1] }}</span></span></div>
            <p class="small muted">{{ tray.failures.length ? say('{1} so far. Then no new one is begun; what is being written is finished first.', tray.failures.length) : 'None so far. Then no new one is begun; what is being written is finished first.' }}</p>
          </section>
          <p v-if="tray.alone" class="small"><template v-if="tray.opener"><Says text="{1} It was proven, and opened the rest."><template #1><strong>{{ say('{1} went first, alone.', at(tray.opener).serial) }}</strong></template></Says></template><template v-else>The first goes alone; when it is proven it opens the rest.</template></p>
          <section>
            <h2>Links</h2>
            <ul class="rows" data-links>
              <li v-for="l in tray.links" :key="l.link">
                <div class="row spread"><span class="mono">{{ l.link }}</span><span v-if="l.place" class="n" :class="at(l.place).state">{{ l.place }}</span></div>
                <p v-if="l.absent" class="small brick">{{ sentence(l.absent) }}</p>
                <p v-else-if="l.says" class="small">{{ sentence(l.says.text) }} <span v-if="l.seen" class="muted">{{ say('Seen {1}.', when(l.seen)) }}</span></p>
                <form v-if="may" class="row next" @submit.prevent="step('next', { link: l.link, ...(label && { unit: label }) })">
                  <v-btn type="submit" variant="text" size="small" :disabled="busy === 'next'" :data-next="l.link">The next one is on it</v-btn>
                </form>
              </li>
            </ul>
            <v-text-field v-if="may" v-model="label" label="Serial on its label, where it does not tell" density="compact" hide-details class="label" data-label-of />
          </section>
        </aside>
      </div>
      <div v-if="may" class="row end">
        <p class="grow"><strong>At the end:</strong> <template v-if="tray.open.length">{{ sayOf('{2} stays on the list by name until somebody answers for it.', '{2} stay on the list by name until somebody answers for them.', tray.open.length, tray.open.map((n) => at(n).serial).join(', ')) }}</template><template v-else>nobody is left over.</template></p>
        <v-btn v-if="!tray.stopped" variant="outlined" data-stop @click="ask('stop', 'Why no further one is begun')">Stop the tray…</v-btn>
        <v-btn variant="outlined" data-close @click="tray.open.length ? ask('close', 'Why it is closed as it is') : step('close')">{{ say('Close it{1}', tray.open.length ? '…' : '') }}</v-btn>
      </div>
    </div>
  </template>
  <div v-else-if="!trouble" class="page"><v-skeleton-loader type="heading, list-item-two-line@3" color="background" /></div>
</template>

<style scoped>
.head { display: flex; flex-wrap: wrap; gap: 12px; justify-content: space-between; padding-block: 12px; }
.version { font-size: 20px; font-weight: 400; margin-left: 8px; }
.right { align-self: center; }
.line { list-style: none; display: flex; gap: 8px; max-width: 1400px; margin: 0 auto; padding: 12px 24px; }
.line > li { flex: 1; min-width: 0; border-top: 4px solid rgb(var(--v-theme-on-background)); padding-top: 6px; }
.line > .before, .line > .after { border-top: 4px dashed var(--outline); }
.line .word { display: block; font-size: 14px; color: var(--muted); }
.line .here .word { font-weight: 700; color: var(--ink); }
.chips { display: flex; flex-wrap: wrap; gap: 4px; min-height: 30px; margin-top: 4px; }
.n { display: inline-grid; place-items: center; min-width: 28px; height: 28px; padding: 0 4px; border: 2px solid var(--ink); border-radius: 4px; font-weight: 700; font-size: 16px; line-height: 1; background: rgb(var(--v-theme-surface)); color: var(--ink); }
.n.done { background: rgb(var(--v-theme-secondary)); border-color: rgb(var(--v-theme-secondary)); color: rgb(var(--v-theme-on-secondary)); }
.n.failed, .n.half-done { background: rgb(var(--v-theme-stop)); border-color: rgb(var(--v-theme-stop)); color: rgb(var(--v-theme-on-stop)); }
.n.refused { border-color: rgb(var(--v-theme-error)); color: rgb(var(--v-theme-error)); }
.n.not-proven, .n.not-seen, .n.again { border-style: dashed; }
.n.not-seen { color: var(--muted); border-color: var(--outline); }
.n.left-out { text-decoration: line-through; border-color: var(--outline); color: var(--muted); }
.n.waits { background: rgb(var(--v-theme-warning)); color: rgb(var(--v-theme-on-hands-on)); border-color: rgb(var(--v-theme-on-hands-on)); }
.n.hands-off { background: rgb(var(--v-theme-hands-off)); border-color: rgb(var(--v-theme-hands-off)); color: rgb(var(--v-theme-on-hands-off)); }
.boards { display: flex; flex-wrap: wrap; position: sticky; top: 56px; z-index: 5; }
.board { flex: 2 1 420px; display: flex; gap: 20px; align-items: center; padding: 16px 24px; min-height: 110px; }
.board.bg-hands-off { flex: 1 1 300px; }
.quiet { background: rgb(var(--v-theme-surface)); border-left: 8px solid rgb(var(--v-theme-secondary)); border-bottom: 1px solid var(--line); }
.grow { flex: 1; min-width: 0; }
.says.long { font-size: 24px; }
.board { flex-wrap: wrap; }
.bg-hands-on .grow { flex: 1 1 300px; }
.answers { flex: 1 1 380px; }
.seat.hands-off .n { border-color: currentColor; }
.says { font-size: 32px; font-weight: 700; line-height: 1.15; margin: 4px 0; }
.off { display: flex; justify-content: space-between; font-size: 32px; font-weight: 700; line-height: 1.1; }
.all { margin-top: 12px; white-space: normal; height: auto; min-height: 48px; }
.bar { height: 18px; margin-top: 8px; width: 60%; margin-left: auto; border-right: 10px solid rgb(var(--v-theme-boom-white)); background: repeating-linear-gradient(115deg, rgb(var(--v-theme-boom-red)) 0 24px, rgb(var(--v-theme-boom-white)) 24px 48px); }
.asking { margin-bottom: 16px; }
.asking > :first-child { flex: 1; min-width: 240px; }
.sides { display: grid; gap: 24px; grid-template-columns: minmax(0, 1fr) 300px; }
.mosaic { list-style: none; display: grid; gap: 8px; grid-template-columns: repeat(auto-fill, minmax(210px, 1fr)); align-content: start; padding-top: 12px; }
.seat { position: relative; display: grid; gap: 6px; align-content: start; padding: 12px; border: 1px solid var(--outline); border-radius: 8px; background: rgb(var(--v-theme-surface)); min-height: 150px; }
.seat p { overflow-wrap: anywhere; }
.seat.failed, .seat.half-done { border: 2px solid rgb(var(--v-theme-error)); }
.seat.failed .stands, .seat.half-done .stands, .seat.refused .stands { color: rgb(var(--v-theme-error)); }
.seat.done .stands { color: rgb(var(--v-theme-secondary)); }
.seat.not-proven, .seat.again { border: 2px dashed var(--ink); }
.seat.not-seen, .seat.left-out { border: 2px dashed var(--outline); background: rgb(var(--v-theme-surface-light)); }
.seat.waits { background: rgb(var(--v-theme-hands-on)); color: rgb(var(--v-theme-on-hands-on)); border-color: rgb(var(--v-theme-on-hands-on)); }
.seat.hands-off { background: rgb(var(--v-theme-hands-off)); color: rgb(var(--v-theme-on-hands-off)); }
.seat.waits a, .seat.hands-off a { color: inherit; }
.stands { display: flex; gap: 8px; align-items: center; font-size: 18px; }
.foot { align-self: end; gap: 8px; }
.pennant { position: absolute; right: 8px; top: -16px; background: rgb(var(--v-theme-secondary)); color: rgb(var(--v-theme-on-secondary)); font-size: 14px; font-weight: 700; padding: 2px 8px; border-radius: 4px 4px 4px 0; }
aside { display: grid; gap: 16px; align-content: start; }
.slot { width: 36px; height: 36px; border: 2px dashed var(--outline); border-radius: 4px; display: grid; place-items: center; }
.slot.full { border-style: solid; }
.slots { margin: 6px 0; }
.label { margin-top: 8px; }
.next .v-btn { margin-left: -12px; }
.end { margin-top: 24px; padding-top: 16px; border-top: 1px solid var(--line); }
@media (max-width: 900px) { .sides { grid-template-columns: minmax(0, 1fr); } }
@media (max-width: 600px) {
  .line { padding: 12px 16px; gap: 2px; }
  .line .word { display: none; }
  .line .here .word { display: block; overflow: hidden; text-overflow: ellipsis; }
  .says, .off { font-size: 24px; }
  .boards { position: static; }
  .palm { display: none; }
  .board { flex-wrap: wrap; padding: 16px; }
  .answers, .grow { flex: 1 1 100%; }
  .mosaic { grid-template-columns: minmax(0, 1fr); }
  .seat { min-height: 0; }
}
</style>
