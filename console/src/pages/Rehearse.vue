<script setup lang="ts">
// A rehearsal that a person goes through: asked what a run would ask, on a twin of the unit.
// The service begins it anew with every answer, so going back is leaving the last one out.
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, problem, type Card, type Fit, type NewAnswer, type Problem, type Rehearsal, type UnitPage } from '../api/client'
import ActionBoard from '../parts/ActionBoard.vue'
import BarList from '../parts/BarList.vue'
import ItemAnswer from '../parts/ItemAnswer.vue'
import PartsLine from '../parts/PartsLine.vue'
import RehearsalBoard from '../parts/RehearsalBoard.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import UnitPlate from '../parts/UnitPlate.vue'
import WiringDraw from '../parts/WiringDraw.vue'
import { session } from '../session'
import { cap, lasts, say, sentence, verdicts } from '../words'

const props = defineProps<{ unit: string }>()
const route = useRoute()
const page = ref<UnitPage | null>(null)
const fit = ref<Fit | null>(null)
const card = ref<Card | null>(null)
const release = ref(String(route.query.release ?? ''))
const wrong = ref(String(route.query.trouble ?? ''))
const sheet = ref('')
const sheetName = ref('')
const answers = ref<NewAnswer[]>([])
const at = ref<Rehearsal | null>(null)
const trouble = ref<Problem | null>(null)
const said = ref<Problem | null>(null)
const busy = ref(false)
const colours = ref<Record<string, string>>({})
const troubles = [{ title: 'nothing', value: '' }, { title: 'the line breaks while it is written', value: 'line' }, { title: 'the program does not start', value: 'start' }]

onMounted(async () => {
  const { data, error } = await api.GET('/api/units/{unit}', { params: { path: { unit: props.unit } } })
  if (error) return void (trouble.value = problem(error))
  page.value = data
  fit.value = (await api.GET('/api/fit', { params: { query: { at: data.id } } })).data ?? null
  card.value = (await api.GET('/api/card', { params: { query: { at: data.id } } })).data ?? null
  release.value ||= fit.value?.verdicts.find((v) => v.recommended)?.release ?? fit.value?.verdicts[0]?.release ?? ''
})
const releases = computed(() => (fit.value?.verdicts ?? []).map((v) => ({ title: `${v.version}: ${verdicts[v.verdict]}`, value: v.release })))

async function take(e: Event) {
  const f = (e.target as HTMLInputElement).files?.[0]
  sheet.value = f ? await f.text() : ''
  sheetName.value = f?.name ?? ''
}

/** go begins it anew with these answers; what is refused changes nothing. */
async function go(next: NewAnswer[]) {
  busy.value = true
  said.value = null
  const { data, error } = await api.POST('/api/rehearsals', { body: { at: page.value!.id, release: release.value, again: true, byHand: true, answers: next, ...(sheet.value && { sheet: sheet.value }), ...(wrong.value && { trouble: wrong.value as 'line' }) } })
  busy.value = false
  if (error) return void (said.value = problem(error))
  answers.value = next
  at.value = data
}
const result = computed(() => at.value?.result)
const view = computed(() => result.value?.waits)
const item = computed(() => view.value?.item)
const told = computed(() => [...(result.value?.told ?? [])].reverse())
const chosen = computed(() => result.value?.advice?.choices.find((c) => c.do === result.value!.chose))

const answer = (value: string, note: string, _: File | null, handed?: { whose: string; due: string }) => go([...answers.value, { item: item.value!.id, value, ...(note && { note }), ...(handed ?? {}) }])
const choose = (what: string) => go([...answers.value, { item: 'stopped', value: what }])
function anew() {
  at.value = null
  answers.value = []
}
</script>

<template>
  <div v-if="trouble" class="page"><Trouble :problem="trouble" /></div>
  <template v-else-if="page">
    <p class="practice" role="note"><Says text="{1} No unit hears of what you do here, and nothing is kept."><template #1><strong>{{ say('A rehearsal, on a twin of {1}.', page.serial) }}</strong></template></Says></p>
    <template v-if="view">
      <ActionBoard :board="view.board as 'hands-on'" :head="view.head.text" :sentence="view.sentence.text" data-practice>
        <template v-if="item">
          <ul v-if="item.signs?.length" class="signs"><li v-for="g in item.signs" :key="g.says.en"><strong>{{ g.not ? 'Not right:' : 'Right:' }}</strong> {{ g.says.en }}</li></ul>
          <ItemAnswer :key="answers.length" :item="item" :busy="busy" :lead="session.may('lead')" :back="view.back" pretend @answer="answer" />
        </template>
        <ol v-if="result?.advice" class="choices">
          <li v-for="c in result.advice.choices" :key="c.do"><v-btn variant="outlined" size="large" :loading="busy" :data-choose="c.do" @click="choose(c.do)">{{ c.says.text }}</v-btn><div class="small">{{ say('It risks: {1} It needs: {2}', sentence(c.risks.text), sentence(c.needs.text)) }}</div></li>
        </ol>
      </ActionBoard>
    </template>
    <div class="page body">
      <h1>{{ say('Go through it: {1}', at ? `${at.from} → ${at.version}` : page.modelName) }}</h1>
      <Trouble v-if="said" :problem="said" />
      <p v-if="!at" class="muted">You are asked what a run would ask you, one thing after another, and answer as you would there.</p>
      <form v-if="!at" class="begin" @submit.prevent="go([])">
        <UnitPlate :unit="page" />
        <v-select v-model="release" :items="releases" label="Release" hide-details data-field="release" />
        <v-select v-model="wrong" :items="troubles" label="What goes wrong" hide-details data-field="trouble" />
        <label class="file">A sheet that is not in force <input type="file" accept=".yaml,.yml,text/yaml" data-sheet @change="take" /></label>
        <v-btn type="submit" color="primary" size="x-large" :loading="busy" :disabled="!release" data-go>Begin the rehearsal</v-btn>
      </form>
      <template v-else>
        <WiringDraw v-if="item?.at === 'connect' && card?.wiring && !sheet" v-model:colours="colours" :wiring="card.wiring" :unit="page.serial" :supply="card.supply" :edit="false" :seen="card.wires" />
        <PartsLine v-if="view?.parts?.length" :parts="view.parts" />
        <p v-if="chosen" class="lead" data-chose><strong>{{ say('You chose: {1}.', chosen.says.text) }}</strong> {{ chosen.risks.text }}</p>
        <RehearsalBoard v-if="!view" :rehearsal="at" />
        <template v-if="!view && at.bars.length"><h2>What would stop the run itself now</h2><BarList :bars="at.bars" /></template>
        <div class="row">
          <v-btn variant="outlined" :disabled="busy || !answers.length" data-less @click="go(answers.slice(0, -1))">Take the last answer back</v-btn>
          <v-btn variant="text" :disabled="busy" data-anew @click="anew">Begin anew…</v-btn>
          <v-btn v-if="page.link && !view && at.well" color="primary" :to="`/begin/${page.link}`">To the unit itself</v-btn>
        </div>
        <p v-if="sheetName" class="small muted">{{ say('By the sheet {1}, which is not in force.', sheetName) }}</p>
        <h2 class="gap">What has happened, at the pace of the line</h2>
        <ol class="told small"><li v-for="(x, i) in told" :key="told.length - i"><span class="mono muted counts">{{ lasts(x.at) }}</span> {{ cap(x.text) }}</li></ol>
      </template>
    </div>
  </template>
</template>

<style scoped>
.practice { padding: 12px 24px; border-bottom: 2px dashed var(--line); }
.begin { display: grid; gap: 16px; max-width: 560px; justify-items: stretch; }
.file { font-weight: 700; }
.signs, .choices, .told { list-style: none; padding: 0; display: grid; gap: 8px; }
.choices { margin-top: 16px; gap: 12px; }
.told li { display: grid; grid-template-columns: 5.5em minmax(0, 1fr); gap: 8px; }
.told span { text-align: right; }
.body { display: grid; gap: 16px; }
.gap { margin-top: 12px; }
</style>
