<script setup lang="ts">
// Prove a link, or be led to what is wrong with it.
import { mdiAlert, mdiCheckDecagram, mdiCloseOctagon, mdiHandBackRight, mdiPowerPlugOff } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'

import { api, problem, type Card, type Check, type Link, type Problem } from '../api/client'
import { allModels, linkAt } from '../lists'
import AskedNow from '../parts/AskedNow.vue'
import LineState from '../parts/LineState.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import WiringDraw from '../parts/WiringDraw.vue'
import { classes, coloursOf, session } from '../hands'
import { ago, listed, say, when } from '../words'

const props = defineProps<{ bench: string; link: string }>()
const at = `${props.bench}/${props.link}`
const check = ref<Check | null>(null)
const past = ref<Check[]>([])
const models = ref<{ title: string; value: string }[]>([])
const model = ref('')
const trouble = ref<Problem | null>(null)
const busy = ref('')
const value = ref('')
const came = ref<Record<string, boolean>>({})
const card = ref<Card | null>(null)
const place = ref<Link | null>(null)
const colours = ref<Record<string, string>>({})
const kept = ref(false)
const line = ref<InstanceType<typeof LineState> | null>(null)

async function history() {
  const { data } = await api.GET('/api/checks', { params: { query: { at } } })
  past.value = data?.checks ?? []
  const last = past.value[0] // a fresh one is gone on with
  if (last && !check.value && Date.now() - new Date(last.at).getTime() < 36e5) {
    check.value = last
    model.value = last.model
  }
}

async function run(what: string, body: { unplugged?: boolean; answer?: { value: number; yes: boolean; came?: Record<string, boolean> } } = {}) {
  busy.value = what
  trouble.value = null
  if (!body.answer) check.value = null // an old verdict would be taken for the new one
  await line.value?.stop()
  try {
    const { data, error } = await api.POST('/api/checks', { body: { at, ...(model.value && { model: model.value }), ...body } })
    if (error) throw error
    check.value = data
    value.value = ''
    came.value = {}
    await Promise.all([history(), joined()])
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = ''
}

async function echo(place: string) {
  busy.value = place
  await line.value?.stop()
  try {
    const { data, error } = await api.POST('/api/echo', { body: { at } })
    if (error) throw error
    came.value = { ...came.value, [place]: data.came }
    const places = check.value?.test?.what.split(', ') ?? []
    if (check.value?.test?.kind === 'look') return run('answer', { answer: { value: 0, yes: data.came } })
    if (places.every((p) => p in came.value)) return run('answer', { answer: { value: 0, yes: false, came: came.value } })
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = ''
}

// The wires of the unit that was identified here last.
async function joined() {
  place.value = await linkAt(at)
  if (place.value?.unit) card.value = (await api.GET('/api/card', { params: { query: { at } } })).data ?? null
}

async function keep() {
  busy.value = 'wires'
  const { error } = await api.POST('/api/wires', { body: { at, wires: coloursOf(card.value?.wiring, colours.value) } })
  if (error) trouble.value = problem(error)
  else {
    kept.value = true
    await joined()
  }
  busy.value = ''
}

onMounted(async () => {
  history()
  joined()
  models.value = (await allModels()).map((m) => ({ title: m.name, value: m.model }))
})

const head = computed(() => check.value?.head.text ?? '')
const steps = computed(() => check.value?.test?.what.split(', ') ?? [])
const ms = (ns: number) => `${(ns / 1e6).toFixed(1)} ms`
</script>

<template>
  <div class="page">
    <div class="row spread">
      <h1><Says text="Connect and prove {1}"><template #1><span class="mono">{{ at }}</span></template></Says></h1>
      <div v-if="session.may('technician')" class="row">
        <v-select v-model="model" :items="[{ title: 'whoever answers', value: '' }, ...models]" label="Model that should answer" class="model" hide-details />
        <v-btn color="primary" :loading="busy === 'check'" data-check @click="run('check')">Ask it</v-btn>
        <v-btn variant="outlined" :loading="busy === 'unplugged'" :prepend-icon="mdiPowerPlugOff" @click="run('unplugged', { unplugged: true })">Plug pulled: ask again</v-btn>
      </div>
    </div>
    <p class="muted">A hundred harmless questions; nothing is changed. The counter-proof shows that the question can fail.</p>
    <p v-if="place" data-identity>
      <template v-if="place.unit && place.identified"><Says text="Last identified: {1}, {2}. That dies with any change of the link; a run asks again."><template #1><router-link :to="`/units/${place.unit}`" class="mono">{{ place.serial }}</router-link></template><template #2><strong>{{ ago(place.identified) }}</strong></template></Says></template>
      <template v-else-if="place.unit"><Says text="{1} was identified here, and {2}: that identity is dead."><template #1><router-link :to="`/units/${place.unit}`" class="mono">{{ place.serial }}</router-link></template><template #2><strong>the link has changed since</strong></template></Says></template>
      <template v-else>Nobody was identified on this link yet.</template>
      <template v-if="place.adapter"><Says text=" Adapter {1}."><template #1><router-link to="/adapters" class="mono">{{ place.adapter }}</router-link></template></Says></template>
    </p>
    <div v-if="card?.unsuited" class="row unsuited brick"><v-icon :icon="mdiAlert" size="24" /> <strong>{{ card.unsuited }}</strong></div>
    <AskedNow :at="at" />
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-if="check">
      <section class="result" :class="check.passed ? 'good' : 'bad'" data-result :data-class="check.class" :data-fault="check.fault">
        <v-icon :icon="check.passed ? mdiCheckDecagram : mdiCloseOctagon" size="56" :class="check.passed ? 'teal' : 'brick'" />
        <div><h2 class="big">{{ head }}</h2><p v-if="check.do" class="lead"><strong>Next:</strong> {{ check.do }}</p></div>
      </section>
      <section v-if="check.asks && check.test && session.may('technician')" class="turn bg-hands-on" aria-live="assertive">
        <div class="row"><v-icon :icon="mdiHandBackRight" size="40" /><strong class="big">Your turn</strong></div>
        <p class="ask">{{ check.test.says }}</p>
        <p>{{ check.test.why }}</p>
        <form v-if="check.test.kind === 'measure'" class="row" @submit.prevent="run('answer', { answer: { value: Number(value.replace(',', '.')), yes: false } })">
          <input v-model="value" class="meter counts" inputmode="decimal" :aria-label="say('What the meter shows, in {1}', check.test.unit)" data-value /><strong class="big">{{ check.test.unit }}</strong>
          <v-btn type="submit" size="x-large" class="yes" :loading="busy === 'answer'" :disabled="!/^[0-9]/.test(value)">That is what it shows</v-btn>
        </form>
        <div v-else-if="check.test.kind === 'bridge'" class="row">
          <v-btn v-for="p in steps" :key="p" size="x-large" class="yes" :loading="busy === p" :disabled="p in came" :data-bridge="p" @click="echo(p)">{{ p in came ? `${p}: ${came[p] ? 'comes back' : 'nothing'}` : say('Bridged at the {1}: send', p) }}</v-btn>
        </div>
        <v-btn v-else size="x-large" class="yes" :loading="busy === 'off'" @click="echo('off')">The lead is off: send</v-btn>
      </section>
      <div class="columns seen">
        <div><h3>What was seen</h3><ol><li v-for="w in check.words" :key="w.text">{{ w.text }}</li></ol></div>
        <div>
          <h3>The line</h3>
          <table class="plain"><tbody>
            <tr><td class="muted">Called</td><td>{{ listed(say('{1}, as {2}', check.seen.kind, check.model), check.seen.asked.baud && say('{1} baud, parity {2}', check.seen.asked.baud, check.seen.asked.parity)) }}</td></tr>
            <tr v-if="check.seen.proof.asked"><td class="muted">Answers</td><td>{{ say('{1} of {2}, {3} at the middle, {4} at worst', check.seen.proof.asked - check.seen.proof.lost, check.seen.proof.asked, ms(check.seen.proof.median), ms(check.seen.proof.worst)) }}</td></tr>
            <tr v-if="check.seen.adapter"><td class="muted">CAN adapter</td><td>{{ say('answers by itself in {1}', ms(check.seen.adapter)) }}</td></tr>
            <tr v-if="check.seen.server"><td class="muted">Serial server</td><td>{{ say('answers by itself in {1}', ms(check.seen.server)) }}</td></tr>
            <tr><td class="muted">Without a stop bit</td><td>{{ check.seen.framing }}</td></tr>
            <tr><td class="muted">Wrong parity</td><td>{{ check.seen.parity }}</td></tr>
            <tr><td class="muted">Stood low at first</td><td>{{ check.seen.held ? 'yes' : 'no' }}</td></tr>
          </tbody></table>
        </div>
        <div><h3>And then</h3><p v-if="check.passed"><v-btn color="primary" :to="`/begin/${at}`">Start a run</v-btn></p><p v-else class="muted">Check again after every change: an old answer says nothing of a wire that was touched since.</p></div>
      </div>
    </template>
    <LineState v-if="session.may('technician')" ref="line" :at="at" :model="model" @left="joined" />
    <section v-if="card?.wiring" class="past" data-wires>
      <h2>{{ say('Wires for {1}', card.serial) }}</h2>
      <WiringDraw v-model:colours="colours" :wiring="card.wiring" :unit="card.serial" :adapter="place?.adapter" :supply="card.supply" :edit="session.may('technician')" :seen="card.wires" />
      <div v-if="session.may('technician')" class="row"><v-btn variant="outlined" :loading="busy === 'wires'" data-keep @click="keep">Keep these colours</v-btn><span v-if="kept" role="status" class="teal">Kept. The card shows this lead.</span></div>
    </section>
    <section v-if="past.length" class="past">
      <h2>Checks of this link</h2>
      <table class="plain"><thead><tr><th>When</th><th>As</th><th>Seen</th><th>Fault</th><th>By</th></tr></thead><tbody>
        <tr v-for="p in past" :key="p.id"><td>{{ when(p.at) }}</td><td>{{ p.model }}</td><td :class="p.passed ? 'teal' : 'brick'">{{ p.unplugged ? say('plug pulled: {1}', classes[p.class] ?? p.class) : (classes[p.class] ?? p.class) }}</td><td>{{ p.says }}</td><td>{{ p.by }}</td></tr>
      </tbody></table>
    </section>
    <v-empty-state v-else-if="!check && !busy" title="This link was not checked yet" text="Ask it: what answers, how soon, how often not." />
  </div>
</template>

<style scoped>
.model { min-width: 220px; }
.result { display: flex; gap: 20px; align-items: center; padding: 20px; margin: 16px 0; border-left: 8px solid; background: rgb(var(--v-theme-surface)); }
.good { border-color: rgb(var(--v-theme-secondary)); }
.bad { border-color: rgb(var(--v-theme-error)); }
.big { font-size: 28px; line-height: 1.2; }
.turn { padding: 20px 24px; margin: 16px 0; display: grid; gap: 12px; }
.ask { font-size: 22px; font-weight: 700; line-height: 1.3; max-width: 60ch; }
.yes { min-height: 72px; background: rgb(var(--v-theme-on-hands-on)) !important; color: rgb(var(--v-theme-hands-on)) !important; }
.meter { width: 150px; height: 72px; font: 700 40px var(--mono); padding: 0 12px; border: 2px solid currentColor; border-radius: 4px; color: inherit; background: none; }
.seen { margin: 20px 0; }
.seen ol { padding-left: 20px; }
h3 { font-size: 16px; margin-bottom: 8px; }
.past { margin-top: 28px; }
.unsuited { gap: 8px; margin: 12px 0; flex-wrap: nowrap; }
@media (max-width: 600px) { .past { overflow-x: auto; } .yes { width: 100%; min-height: 92px; } .model { width: 100%; } }
</style>
