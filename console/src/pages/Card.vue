<script setup lang="ts">
// The job card of a unit: what to know, what to take along, what to do, in order.
import { mdiAlert, mdiArchiveCheck, mdiArchiveOff, mdiCheckCircle, mdiCloseCircle, mdiHandBackRight, mdiHelpCircle, mdiPrinter, mdiRobotIndustrial } from '@mdi/js'
import { computed, onMounted, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, problem, type Card, type Item, type Problem, type Unit } from '../api/client'
import BulletinList from '../parts/BulletinList.vue'
import BarList from '../parts/BarList.vue'
import NeedList from '../parts/NeedList.vue'
import ProtectedMemory from '../parts/ProtectedMemory.vue'
import Says from '../parts/Says.vue'
import StrokeDraw from '../parts/StrokeDraw.vue'
import Trouble from '../parts/Trouble.vue'
import UnitPlate from '../parts/UnitPlate.vue'
import WiringDraw from '../parts/WiringDraw.vue'
import { procedures } from '../api/names'
import { backs, session, stages } from '../hands'
import { newest } from '../newest'
import { cap, minutes, say } from '../words'

const props = defineProps<{ unit: string }>()
const route = useRoute()
const header = route.query.header === 'true' // the way through the programming header
const card = ref<Card | null>(null)
const trouble = ref<Problem | null>(null)
const adapter = ref('')
const day = ref('')
const ticked = reactive(new Set<string>())

const latest = newest()
async function load() {
  const still = latest()
  try {
    const { data, error } = await api.GET('/api/card', { params: { query: { at: props.unit, ...(adapter.value && { adapter: adapter.value }), ...(day.value && { day: day.value }), ...(header && { header }) } } })
    if (!still()) return
    if (error) throw error
    card.value = data
    trouble.value = null
  } catch (e) {
    if (still()) trouble.value = problem(e)
  }
}
onMounted(load)
watch([adapter, day], load)

const at = computed(() => (stage: string): Item[] => card.value?.items.filter((i) => i.at === stage) ?? [])
const byTool = (i: Item) => ['line', 'wait', 'check', 'read', 'reach', 'start', 'apply'].includes(i.do)
const plate = computed<Unit | null>(() => (card.value ? { id: card.value.unit ?? '', model: card.value.model, serial: card.value.serial ?? '', modelName: card.value.modelName, revision: card.value.revision ?? '', site: card.value.site ?? '', running: card.value.running ?? '', state: 'known', entered: card.value.made } : null))
const standing = computed(() => ({ proven: [mdiCheckCircle, 'teal', cap(procedures.proven!)], failed: [mdiCloseCircle, 'brick', cap(procedures.failed!)], unproven: [mdiHelpCircle, '', cap(procedures.unproven!)], barred: [mdiCloseCircle, 'brick', cap(procedures.barred!)] } as Record<string, string[]>)[card.value?.standing ?? ''] ?? null)
const left = computed(() => (card.value?.items.filter((i) => ['hazard', 'tool', 'prepare'].includes(i.at) && !ticked.has(i.id)).length ?? 0))
function tick(id: string) {
  if (!ticked.delete(id)) ticked.add(id)
}
</script>

<template>
  <div class="page">
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-else-if="card && plate">
      <div class="row spread top">
        <div class="row plates"><UnitPlate :unit="plate" :note="card.procedure ? say('procedure {1}, edition {2}', card.procedure, card.edition) : 'no procedure'" />
          <div>
            <h1>Job card</h1>
            <p v-if="standing" class="lead row tight" :class="standing[1]"><v-icon :icon="standing[0]" size="24" /> <strong>{{ standing[2] }}</strong></p>
            <p v-if="card.standingSays">{{ card.standingSays }}</p>
            <p v-if="card.header"><strong>Around its own loader:</strong> {{ card.header }}.</p>
            <p v-if="!card.procedure" class="lead">The sheet has no procedure for this unit. What follows is what the tool knows by itself.</p>
          </div>
        </div>
        <div class="row">
          <v-text-field v-model="day" type="date" label="Planned day" class="day" data-day />
          <v-btn variant="outlined" :href="`/api/card.pdf?at=${encodeURIComponent(unit)}&day=${day}&header=${header}`" target="_blank" :prepend-icon="mdiPrinter" data-print>Print it</v-btn>
          <v-btn v-if="card.link && session.may('technician')" color="primary" :to="`/begin/${card.link}`" data-begin>{{ left ? say('Begin ({1} not ticked)', left) : 'Begin' }}</v-btn>
        </div>
      </div>
      <div class="columns facts">
        <dl>
          <template v-if="card.siteInfo?.contact"><dt>Ask</dt><dd>{{ card.siteInfo.contact }}</dd></template>
          <template v-if="card.siteInfo?.note"><dt>Get in</dt><dd>{{ card.siteInfo.note }}</dd></template>
          <template v-for="j in card.jobs" :key="j.number"><dt>Job</dt><dd data-job-of><router-link :to="`/jobs/${j.number}`">{{ j.number }}: {{ j.reason }}</router-link><template v-if="j.asked">, {{ say('asked by {1}', j.asked) }}</template><template v-if="j.planned">, {{ j.planned }}</template><div v-if="j.test"><Says text="Done when: {1}"><template #1><strong>{{ j.test }}</strong></template></Says></div></dd></template>
          <template v-if="card.reason"><dt>Why</dt><dd>{{ card.reason }}</dd></template>
          <template v-if="card.release"><dt>Firmware</dt><dd class="mono">{{ card.running || '?' }} → {{ card.release }}</dd></template>
          <template v-if="card.test"><dt>Done when</dt><dd>{{ card.test }}</dd></template>
        </dl>
        <dl v-if="card.minutes || card.meanwhile || card.supply">
          <template v-if="card.minutes"><dt>Takes</dt><dd>{{ card.minutes }} min, {{ card.place === 'bench' ? 'at the bench' : 'where it stands' }}<div v-if="card.took" class="small muted">{{ card.took.runs === 1 ? say('the one run so far took {1}', minutes(card.took.seconds)) : say('{1} runs took {2} at the middle', card.took.runs, minutes(card.took.seconds)) }}</div></dd></template>
          <template v-if="card.meanwhile"><dt>Meanwhile</dt><dd>{{ card.meanwhile }}</dd></template>
          <template v-if="card.supply"><dt>Power</dt><dd><strong>{{ { adapter: 'The adapter feeds it', own: 'Its own supply feeds it', none: 'Nothing may feed it' }[card.supply.from] }}<template v-if="card.supply.volts">, {{ card.supply.volts }} V</template>.</strong> {{ card.supply.says?.en }}</dd></template>
        </dl>
        <dl>
          <dt>Way back</dt><dd class="row tight"><v-icon :icon="card.wayBack === 'full' ? mdiArchiveCheck : mdiArchiveOff" :class="card.wayBack === 'full' ? 'teal' : 'brick'" size="28" /> <strong>{{ cap(backs[card.wayBack] ?? '') }}</strong></dd>
          <template v-if="card.asks.length"><dt>You will be asked</dt><dd data-asks><div v-for="x in card.asks" :key="x.title"><strong>{{ x.title }}</strong><span v-if="x.why" class="small muted"> {{ x.why }}</span></div></dd></template>
          <dt>Proof</dt><dd>{{ card.verify }}</dd>
          <template v-if="card.instead"><dt>Instead of a backup</dt><dd>{{ card.instead }}</dd></template>
        </dl>
      </div>
      <section v-if="card.bars.length" class="stage"><h2>What would stop it</h2><BarList :bars="card.bars" class="bars" /></section>
      <ProtectedMemory :card="card" />
      <div v-if="card.unsuited" class="row tight beware brick"><v-icon :icon="mdiAlert" size="22" /> <strong>{{ card.unsuited }}</strong></div>
      <div v-for="f in card.flaws" :key="f" class="row tight beware"><v-icon :icon="mdiAlert" class="brick" size="22" /> {{ f }}</div>
      <BulletinList v-if="card.bulletins.length" :bulletins="card.bulletins" class="stage" />
      <section v-for="s in stages" v-show="at(s.at).length || (s.at === 'tool' && card.needs.length) || (s.at === 'connect' && card.wiring)" :key="s.at" class="stage" :data-stage="s.at">
        <h2>{{ s.title }}</h2>
        <NeedList v-if="s.at === 'tool'" :needs="card.needs" />
        <template v-if="s.at === 'connect' && card.wiring">
          <v-select v-if="card.adapters.length > 1" v-model="adapter" :items="card.adapters" label="Adapter at hand" class="adapter" />
          <WiringDraw :wiring="card.wiring" :unit="card.serial" :supply="card.supply" :seen="card.wires" />
        </template>
        <ul class="rows">
          <li v-for="i in at(s.at)" :key="i.id" class="item">
            <label v-if="!byTool(i)" class="box"><input type="checkbox" :checked="ticked.has(i.id)" :aria-label="i.says.en" @change="tick(i.id)" /></label>
            <v-icon v-else :icon="i.do === 'apply' ? mdiHandBackRight : mdiRobotIndustrial" size="24" class="box" />
            <div>
              <strong>{{ i.says.en }}</strong> <span v-if="i.do === 'measure'">{{ say('from {1} to {2} {3}', i.least, i.most, i.unit) }}</span>
              <span v-if="i.do === 'choose'" class="muted">{{ ' ' }}{{ i.choices?.map((c) => c.says.en).join(' / ') }}</span>
              <div v-if="i.why?.en" class="muted">{{ i.why.en }}</div>
              <div v-for="g in i.signs ?? []" :key="g.says.en" class="row tight"><v-icon :icon="g.not ? mdiCloseCircle : mdiCheckCircle" :class="g.not ? 'brick' : 'teal'" size="20" /> <span>{{ g.not ? say('not right: {1}', g.says.en) : say('right: {1}', g.says.en) }}</span></div>
            </div>
            <StrokeDraw v-if="i.draw?.length" :strokes="i.draw" :says="i.says.en ?? ''" />
          </li>
        </ul>
      </section>
    </template>
    <v-skeleton-loader v-else type="heading, list-item-three-line, list-item-three-line" color="background" />
  </div>
</template>

<style scoped>
.top { align-items: flex-start; margin-bottom: 16px; }
.plates { gap: 24px; flex-wrap: wrap; }
.tight { gap: 8px; flex-wrap: nowrap; align-items: center; }
.facts dl { display: grid; grid-template-columns: 100px 1fr; gap: 8px 12px; align-content: start; }
dt { color: var(--muted); }
.beware { margin-top: 12px; font-size: 18px; }
.stage { margin-top: 28px; }
.stage h2 { border-bottom: 1px solid var(--line); padding-bottom: 6px; }
.stage :deep(.wiring) { margin: 16px 0; }
.bars { margin-top: 12px; }
.day { min-width: 170px; }
.adapter { max-width: 360px; margin: 12px 0; }
.item { display: grid; grid-template-columns: 44px 1fr auto; gap: 12px; align-items: center; }
.box { width: 44px; min-height: 44px; display: grid; place-items: center; }
.box input { width: 24px; height: 24px; accent-color: rgb(var(--v-theme-primary)); }
</style>
