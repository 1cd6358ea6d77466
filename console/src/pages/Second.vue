<script setup lang="ts">
// What somebody asks a lead's leave for: the lead sees what whoever asks sees, and decides.
import { mdiCheckCircle, mdiCloseCircle, mdiTimerSand } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'

import { api, problem, type Problem, type Rehearsal, type SecondPage, type Seconds, type UnitPage } from '../api/client'
import { gates, permits } from '../api/names'
import BarList from '../parts/BarList.vue'
import RehearsalBoard from '../parts/RehearsalBoard.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import UnitPlate from '../parts/UnitPlate.vue'
import { session } from '../session'
import { say, sentence, when } from '../words'

const props = defineProps<{ number: string }>()
const page = ref<SecondPage | null>(null)
const unit = ref<UnitPage | null>(null)
const rule = ref<Seconds | null>(null)
const rehearsal = ref<Rehearsal | null>(null)
const trouble = ref<Problem | null>(null)
const wrong = ref<Problem | null>(null)
const busy = ref('')
function asks(p: SecondPage) {
  const over = p.from && p.from !== p.version
  if (p.kind === 'restore') return over ? say('Put a backup of {1} back, in place of {2}?', p.version, p.from) : say('Put a backup of {1} back?', p.version)
  return over ? say('Put {1} in, in place of {2}?', p.version, p.from) : say('Put {1} in?', p.version)
}
const why = ref('')
const hours = ref(24)
// What leave would not take away.
const others = computed(() => (page.value?.bars ?? []).filter((b) => !page.value!.wants.some((w) => w.for === b.gate || w.for === b.what)))
const rules = [{ value: 'auto', title: 'if more than one may open runs' }, { value: 'on', title: 'always' }, { value: 'off', title: 'never: a lead alone may' }]

async function load() {
  const { data, error } = await api.GET('/api/seconds/{second}', { params: { path: { second: Number(props.number) } } })
  if (error) return void (trouble.value = problem(error))
  page.value = data
  unit.value = (await api.GET('/api/units/{unit}', { params: { path: { unit: data.unit } } })).data ?? null
  rule.value = (await api.GET('/api/seconds')).data ?? null
}
onMounted(load)

async function decide(give: boolean) {
  busy.value = give ? 'give' : 'refuse'
  wrong.value = null
  const { error } = await api.POST('/api/seconds/{second}', { params: { path: { second: Number(props.number) } }, body: { give, reason: why.value, ...(give && { hours: Number(hours.value) }) } })
  if (error) wrong.value = problem(error)
  else await load()
  busy.value = ''
}

async function rehearse() {
  busy.value = 'rehearse'
  wrong.value = null
  const { data, error } = await api.POST('/api/rehearsals', { body: { at: page.value!.unit, release: page.value!.release ?? '', again: true } })
  if (data) rehearsal.value = data
  else wrong.value = problem(error)
  busy.value = ''
}

async function settle(to: string) {
  const { data, error } = await api.POST('/api/seconds/rule', { body: { rule: to as 'auto' } })
  if (data) rule.value = data
  else wrong.value = problem(error)
}
</script>

<template>
  <div v-if="trouble" class="page"><h1>Leave</h1><Trouble :problem="trouble" /></div>
  <div v-else-if="page" class="page">
    <div class="row top">
      <UnitPlate v-if="unit" :unit="unit" :note="page.from ? say('runs {1}', page.from) : 'nobody knows what it runs'" />
      <div>
        <h1>{{ asks(page) }}</h1>
        <p class="lead"><Says text="{1} asks, {2}: {3}" :put="{ 2: when(page.at), 3: sentence(page.reason) }"><template #1><strong>{{ page.by }}</strong></template></Says></p>
        <p class="state" :class="page.state" data-state><v-icon :icon="page.state === 'given' ? mdiCheckCircle : page.state === 'waits' ? mdiTimerSand : mdiCloseCircle" /> <strong>{{ { waits: 'Waits for a lead', given: say('Leave given until {1}', when(page.until)), refused: 'Refused', over: 'Leave was given, and is over' }[page.state] }}</strong><template v-if="page.decided">. {{ say('By the word of {1}: {2}', page.decided, sentence(page.why ?? '')) }}</template></p>
      </div>
    </div>
    <h2 class="gap">What leave is asked for</h2>
    <ul class="rows"><li v-for="w in page.wants" :key="w.for"><strong>{{ permits[w.for] ?? gates[w.for] ?? w.for }}</strong><div>{{ w.text }}</div></li></ul>
    <template v-if="others.length"><h2 class="gap">What else stands in the way</h2><BarList :bars="others" /></template>
    <p class="row see"><router-link :to="`/units/${page.unit}`">All of this unit</router-link><router-link :to="`/card/${page.unit}`">Its card</router-link><v-btn v-if="page.kind === 'flash' && unit?.backups.length && session.may('technician')" variant="outlined" :loading="busy === 'rehearse'" data-rehearse @click="rehearse">Rehearse it</v-btn></p>
    <RehearsalBoard v-if="rehearsal" :rehearsal="rehearsal" />
    <form v-if="page.state === 'waits' && session.may('lead') && !page.own" class="decide" @submit.prevent>
      <h2>Decide</h2>
      <v-text-field v-model="why" label="Why, in its history under your name" hide-details data-why />
      <v-text-field v-model="hours" type="number" min="1" max="336" label="Leave holds for so many hours" hide-details data-hours />
      <div class="row"><v-btn color="primary" size="large" :disabled="why.trim().length < 3" :loading="busy === 'give'" data-give @click="decide(true)">Give leave</v-btn><v-btn variant="outlined" size="large" :disabled="why.trim().length < 3" :loading="busy === 'refuse'" data-refuse @click="decide(false)">Refuse</v-btn></div>
    </form>
    <p v-else-if="page.state === 'waits'" class="muted">{{ page.own ? 'You have asked this yourself: a second person decides.' : 'A lead decides.' }}</p>
    <Trouble v-if="wrong" :problem="wrong" />
    <p v-if="rule" class="small muted gap" data-rule>{{ rule.on ? 'What cannot be taken back wants two persons.' : 'What cannot be taken back wants one person.' }} <template v-if="rule.by">{{ say('Settled by {1}.', rule.by) }} </template><strong v-if="rule.waits.text" data-rule-waits>{{ rule.waits.text }}</strong></p>
    <v-select v-if="rule && session.may('lead')" :model-value="rule.rule" :items="rules" label="Two persons" class="rule-pick" hide-details data-rule-pick @update:model-value="settle" />
  </div>
</template>

<style scoped>
.top { gap: 24px; align-items: start; }
.gap { margin-top: 24px; }
.rule-pick { margin-top: 12px; }
.state.given { color: rgb(var(--v-theme-success)); }
.state.refused { color: rgb(var(--v-theme-error)); }
.see { gap: 24px; margin: 16px 0; }
.decide { display: grid; gap: 12px; max-width: 560px; margin-top: 16px; }
.rule-pick { max-width: 360px; }
</style>
