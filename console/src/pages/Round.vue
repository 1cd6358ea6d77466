<script setup lang="ts">
// A vehicle from as found to as left: what is next, every fault code through the round, and
// the modules. Each module is written by a run of its own.
import { mdiAccountHardHat, mdiAlert, mdiArrowRight, mdiCheckCircle, mdiCircleOutline, mdiMinusCircleOutline, mdiPlayCircle, mdiPrinterOutline } from '@mdi/js'
import { computed, ref } from 'vue'

import { api, problem, type Problem, type Round } from '../api/client'
import { every } from '../every'
import BulletinList from '../parts/BulletinList.vue'
import CodeLines from '../parts/CodeLines.vue'
import DoNotDrive from '../parts/DoNotDrive.vue'
import ModuleNet from '../parts/ModuleNet.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { clock, factNames, say, sentence, turns, when } from '../words'

const props = defineProps<{ id: string }>()
const round = ref<Round | null>(null)
const trouble = ref<Problem | null>(null)
const said = ref<Problem | null>(null)
const busy = ref('')
const reason = ref('')
const leaving = ref(false)

async function load() {
  if (busy.value) return
  const { data, error } = await api.GET('/api/rounds/{round}', { params: { path: { round: props.id } } })
  if (busy.value) return
  trouble.value = error ? problem(error) : null
  if (data) round.value = data
}
every(4000, load)

type Do = 'go' | 'leave' | 'again' | 'close'
async function step(what: Do, turn: number) {
  busy.value = what
  said.value = null
  const { data, error } = await api.POST('/api/rounds/{round}/step', { params: { path: { round: props.id } }, body: { turn, do: what, reason: reason.value } })
  busy.value = ''
  if (error) {
    said.value = problem(error)
    await load()
    return
  }
  round.value = data
  reason.value = ''
  leaving.value = false
}

const may = computed(() => session.may('technician') && !!round.value && round.value.next >= 0)
const turn = computed(() => round.value?.turns[round.value.next])
const atEnd = computed(() => !!round.value && round.value.next === round.value.turns.length)
const behind = computed(() => round.value?.modules.filter((m) => round.value!.behind.includes(m.slot)) ?? [])
const verbs: Record<string, string> = { note: 'Ask all modules', hands: 'It is done', clear: 'Clear the codes', learn: 'Start it', modules: 'The writing is over' }
const icon = (i: number) => {
  const t = round.value!.turns[i]!
  if (i === round.value!.next) return mdiPlayCircle
  return t.state === 'done' ? mdiCheckCircle : t.state === 'left' ? mdiAlert : t.state === 'passed' ? mdiMinusCircleOutline : mdiCircleOutline
}
</script>

<template>
  <div class="band">
    <div class="page head">
      <div>
        <h1>{{ round?.modelName ?? 'Round' }} <span v-if="round" class="mono serial">{{ round.serial }}</span></h1>
        <p v-if="round" class="muted"><Says text="{1} Round of {2}, {3}, {4}, on {5}" :put="{ 1: sentence(round.reason), 2: when(round.at), 3: round.by }"><template #4><router-link :to="`/jobs/${round.job}`">{{ say('job {1}', round.job) }}</router-link></template><template #5><router-link :to="`/vehicle/${round.link}`" class="mono">{{ round.link }}</router-link></template></Says></p>
      </div>
      <v-btn v-if="round" variant="outlined" :prepend-icon="mdiPrinterOutline" :href="`/api/rounds/${round.id}/report.pdf`" target="_blank" data-print>Report</v-btn>
    </div>
  </div>
  <div class="page">
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-if="round">
      <DoNotDrive v-if="round.next >= 0" :modules="round.modules" />
      <div v-if="turn" class="next" :class="{ 'bg-hands-on': turn.do === 'hands' }" role="status" data-next>
        <v-icon :icon="turn.do === 'hands' ? mdiAccountHardHat : mdiPlayCircle" size="40" />
        <div class="what">
          <strong>{{ turn.do === 'hands' && turn.state !== 'unknown' ? turn.says : round.now.text }}</strong>
          <div v-if="turn.do === 'clear'">All that is in the table below goes; it is kept here as it is now.</div>
        </div>
        <div v-if="may" class="row">
          <template v-if="turn.do === 'modules'">
            <v-btn v-for="(m, i) in behind" :key="m.slot" :variant="i ? 'outlined' : 'flat'" color="primary" size="large" :append-icon="mdiArrowRight" :to="`/begin/${m.at}`" :data-write="m.slot">{{ say('Write the {1}', m.title) }}</v-btn>
          </template>
          <v-btn v-if="turn.do !== 'modules' || !behind.length" variant="flat" color="primary" size="large" :loading="busy === 'go'" data-go @click="step('go', round.next)">{{ verbs[turn.do] }}</v-btn>
          <v-btn v-if="turn.do !== 'note'" variant="outlined" data-leave @click="leaving = !leaving">Leave it</v-btn>
        </div>
      </div>
      <form v-if="turn && leaving && may" class="row leave" @submit.prevent="step('leave', round.next)">
        <v-text-field v-model="reason" label="Why it stays undone" hide-details autofocus data-why />
        <v-btn type="submit" variant="outlined" :disabled="reason.trim().length < 3" :loading="busy === 'leave'" data-leave-yes>Leave it undone</v-btn>
      </form>
      <div v-if="atEnd" class="next" role="status" data-end>
        <v-icon :icon="round.open.length ? mdiAlert : mdiCheckCircle" size="40" :class="round.open.length ? 'brick' : 'teal'" />
        <div class="what">
          <strong>{{ round.now.text }}</strong>
          <div v-if="round.open.length">{{ round.steps?.map((s) => s.says).join('. ') }}.</div>
        </div>
        <form v-if="may" class="row" @submit.prevent="step('close', round.next)">
          <v-text-field v-if="round.open.length" v-model="reason" label="Why it is handed back like this" hide-details class="why" data-closing />
          <v-btn type="submit" variant="flat" color="primary" size="large" :disabled="round.open.length > 0 && reason.trim().length < 3" :loading="busy === 'close'" data-close>Close the round</v-btn>
        </form>
      </div>
      <div v-if="round.closed" class="next" data-closed>
        <v-icon :icon="mdiCheckCircle" size="40" class="teal" />
        <div class="what"><strong>{{ say('Closed since {1}', when(round.closed)) }}</strong><div v-if="round.closing">{{ sentence(round.closing) }}</div><div v-if="round.whole === false" class="brick">Its events are not those of which the vehicle's history holds the digest.</div></div>
      </div>
      <Trouble v-if="said" :problem="said" class="said" />
      <div class="sides">
        <section>
          <h2>Turns</h2>
          <ol class="turns" data-turns>
            <li v-for="(t, i) in round.turns" :key="i" :class="[t.state, { now: i === round.next }]">
              <v-icon :icon="icon(i)" size="22" :class="{ teal: t.state === 'done', brick: t.state === 'left' }" />
              <div>
                <div>{{ i + 1 }}. {{ t.says }}</div>
                <div v-if="t.state !== 'open'" class="small muted">{{ turns[t.state] }}<template v-if="t.read">: {{ t.read.text }}</template><template v-if="t.reason">: {{ t.reason }}</template><template v-if="t.at">, {{ clock(t.at) }}, {{ t.by }}</template></div>
              </div>
              <v-btn v-if="may && i > 0 && i < round.next" variant="text" :aria-label="say('Do turn {1} and all after it anew', i + 1)" :data-again="i" @click="step('again', i)">Anew</v-btn>
            </li>
          </ol>
        </section>
        <section data-codes>
          <h2>Fault codes through the round</h2>
          <p v-if="round.conditions.length" class="muted">{{ say('The vehicle says at {1}: {2}.', clock(round.conditions[0]!.at), round.conditions.map((f) => `${factNames[f.name] ?? f.name.replaceAll('-', ' ')} ${f.value}`).join(', ')) }}</p>
          <CodeLines :lines="round.lines" :notes="round.notes" />
        </section>
      </div>
      <section v-if="round.modules.some((m) => m.bulletins.length)">
        <h2>Bulletins</h2>
        <BulletinList v-for="m in round.modules.filter((m) => m.bulletins.length)" :key="m.slot" :bulletins="m.bulletins" :of="m.title" />
      </section>
      <h2>Modules</h2>
      <table v-if="round.written.length" class="plain stack" data-written>
        <thead><tr><th>Written</th><th>from</th><th>to</th><th>run</th></tr></thead>
        <tbody><tr v-for="w in round.written" :key="w.run"><td>{{ round.modules.find((m) => m.slot === w.slot)?.title }}</td><td data-label="from">{{ w.from || 'not told' }}</td><td data-label="to">{{ w.to || 'not yet' }}</td><td data-label="run"><router-link :to="`/runs/${w.run}`">{{ w.outcome || 'at work' }}</router-link></td></tr></tbody>
      </table>
      <ModuleNet :modules="round.modules" :work="may && (turn?.do === 'modules' || atEnd)" />
    </template>
  </div>
</template>

<style scoped>
.head { display: flex; flex-wrap: wrap; gap: 16px; justify-content: space-between; align-items: center; padding-block: 16px; }
.serial { font-size: 0.7em; font-weight: 400; }
.next { display: flex; flex-wrap: wrap; gap: 16px; align-items: center; border: 2px solid var(--ink); border-radius: 8px; padding: 16px 20px; margin-bottom: 16px; }
.next .what { flex: 1 1 320px; }
.next strong { font-size: 22px; line-height: 1.25; }
.next ul { padding-left: 20px; }
.why { min-width: 260px; }
.leave { margin-bottom: 16px; }
.leave > :first-child { flex: 1 1 300px; }
.said { margin-bottom: 16px; }
.sides { display: grid; gap: 32px; grid-template-columns: minmax(280px, 2fr) minmax(0, 3fr); margin: 8px 0 28px; }
.turns { list-style: none; }
.turns li { display: grid; grid-template-columns: 30px 1fr auto; align-items: start; padding: 8px 0; border-bottom: 1px solid var(--line); }
.turns .now { font-weight: 700; }
.turns .passed, .turns .open:not(.now) { color: var(--muted); }
@media (max-width: 1000px) { .sides { grid-template-columns: minmax(0, 1fr); } }
</style>
