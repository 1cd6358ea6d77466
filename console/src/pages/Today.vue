<script setup lang="ts">
import { mdiAccountMultipleCheckOutline, mdiHandBackRightOutline, mdiCircleHalfFull, mdiCircleOffOutline, mdiClipboardTextClockOutline, mdiClose, mdiFerry, mdiPackageVariant, mdiPause, mdiTransitConnectionVariant, mdiUndoVariant, mdiViewGridOutline } from '@mdi/js'
import { computed, ref } from 'vue'

import { api, problem, type Problem, type Today } from '../api/client'
import { every } from '../every'
import { gates, permits } from '../api/names'
import NextSteps from '../parts/NextSteps.vue'
import Says from '../parts/Says.vue'
import TestAnswer from '../parts/TestAnswer.vue'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { cap, extent, jobWords, outcomes, say, sayOf, seatWords, sentence, tests, when } from '../words'

const today = ref<Today | null>(null)
const trouble = ref<Problem | null>(null)

async function load() {
  try {
    const { data, error } = await api.GET('/api/today')
    if (error) throw error
    today.value = data
    trouble.value = null
  } catch (e) {
    trouble.value = problem(e)
  }
}
const ends = computed(() => {
  const t = today.value
  return t ? t.runs.length + t.rounds.length + t.trays.length + t.halfDone.length + t.notProven.length + t.tests.length + t.left.length + t.seconds.length + t.withdrawn.length : 0
})
// Units that are behind, of models that are not named.
const others = computed(() => {
  const w = today.value?.wanting
  return !!w && (w.more || w.behind > w.models.reduce((n, m) => n + m.units, 0))
})
every(3000, load)
</script>

<template>
  <div class="page">
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-else-if="today">
      <div class="row spread">
        <h1>{{ ends ? sayOf('{1} thing unfinished', '{1} things unfinished', ends) : 'Nothing unfinished' }}</h1>
        <span v-if="ends" class="small muted">unsafe first, then oldest</span>
      </div>
      <hr class="rule top" />
      <ul class="rows" data-unfinished>
        <li v-for="r in today.runs" :key="r.id" class="end">
          <span class="mark" :class="r.state === 'paused' ? 'half' : 'work'"><v-icon :icon="r.progress.view.laid ? mdiPackageVariant : r.state === 'paused' ? mdiPause : mdiFerry" /></span>
          <div class="what">
            <div><strong :class="r.state === 'paused' ? 'brick' : ''">{{ r.progress.view.laid ? (r.progress.view.touched ? 'laid aside, half done' : 'laid aside') : outcomes[r.outcome] }}</strong> <strong>{{ r.unit.modelName }} {{ r.unit.serial }}</strong><template v-if="r.unit.site">, {{ r.unit.site }}</template></div>
            <div class="muted">{{ say('{1} {2} on {3}.', r.kind, r.version, r.link) }} <template v-if="r.progress.view.laid">{{ say('{1}, with {2}. {3}', cap(r.progress.view.laid.place), r.progress.view.laid.holder, sentence(r.progress.view.laid.why)) }}</template><template v-else-if="r.progress.view.hands">{{ say('Waits for you: {1}', r.progress.view.hands.says) }}</template><template v-else-if="r.progress.fault">{{ sentence(r.progress.fault.message) }}</template></div>
            <div v-if="jobWords(r)" class="small muted">{{ jobWords(r) }}</div>
          </div>
          <div class="who small">{{ r.by }} <br /><span class="muted">{{ say('since {1}', when(r.opened)) }}</span></div>
          <v-btn variant="outlined" :to="`/runs/${r.id}`">{{ r.state === 'paused' ? 'Go on' : 'Look' }}</v-btn>
        </li>
        <li v-for="r in today.rounds" :key="r.id" class="end" data-open-round>
          <span class="mark work"><v-icon :icon="mdiTransitConnectionVariant" /></span>
          <div class="what">
            <div><strong>round open</strong> <strong>{{ r.modelName }} {{ r.serial }}</strong></div>
            <div class="muted">{{ say('{1} Next: {2}', sentence(r.reason), r.waits) }}</div>
          </div>
          <div class="who small">{{ r.by }} <br /><span class="muted">{{ say('since {1}', when(r.at)) }}</span></div>
          <v-btn variant="outlined" :to="`/rounds/${r.id}`">Go on</v-btn>
        </li>
        <li v-for="t in today.trays" :key="t.id" class="end" data-open-tray>
          <span class="mark work"><v-icon :icon="mdiViewGridOutline" /></span>
          <div class="what">
            <div><Says text="{1} {2}, at bench {3}" :put="{ 3: t.bench }"><template #1><strong>tray open</strong></template><template #2><strong>{{ t.modelName }} {{ t.version }}</strong></template></Says></div>
            <div class="muted">{{ sentence(t.reason) }} {{ seatWords(t.count) }}</div>
          </div>
          <div class="who small">{{ t.by }} <br /><span class="muted">{{ say('since {1}', when(t.at)) }}</span></div>
          <v-btn variant="outlined" :to="`/trays/${t.id}`">Go on</v-btn>
        </li>
        <li v-for="u in today.halfDone" :key="u.id" class="end">
          <span class="mark half"><v-icon :icon="mdiCircleHalfFull" /></span>
          <div class="what">
            <div><strong class="brick">half done</strong> <strong>{{ u.modelName }} {{ u.serial }}</strong><template v-if="u.site">, {{ u.site }}</template></div>
            <div class="muted">A write was begun and did not end well. Do not put it back to work.</div>
          </div>
          <div class="who small muted">{{ say('seen {1}', when(u.seen)) }}</div>
          <v-btn variant="outlined" :to="`/units/${u.id}`">Decide</v-btn>
        </li>
        <li v-for="u in today.notProven" :key="u.id" class="end">
          <span class="mark ring"><v-icon :icon="mdiCircleOffOutline" /></span>
          <div class="what">
            <div><strong>not proven</strong> <strong>{{ u.modelName }} {{ u.serial }}</strong><template v-if="u.site">, {{ u.site }}</template></div>
            <div class="muted">Nobody has seen it work since its last run.</div>
          </div>
          <div class="who small muted">{{ say('seen {1}', when(u.seen)) }}</div>
          <v-btn variant="outlined" :to="`/units/${u.id}`">Decide</v-btn>
        </li>
        <li v-for="t in today.tests" :key="t.unit + t.item" class="end" data-open-test>
          <span class="mark ring"><v-icon :icon="mdiClipboardTextClockOutline" /></span>
          <div class="what">
            <div><strong :class="{ brick: t.late || t.state === 'excused' }">{{ !t.whose ? say('test {1}', tests[t.state]) : t.late ? say('test {1} to {2} until {3}, late', tests[t.state], t.whose, t.due) : say('test {1} to {2} until {3}', tests[t.state], t.whose, t.due) }}</strong> <router-link :to="`/units/${t.unit}`" class="mono">{{ t.serial }}</router-link><template v-if="t.site">, {{ t.site }}</template></div>
            <div class="muted">{{ t.says }} {{ sentence(t.reason) }}</div>
          </div>
          <div class="who small">{{ t.by }} <br /><span class="muted">{{ say('since {1}', when(t.since)) }}</span></div>
          <TestAnswer v-if="session.may('technician')" :test="t" @answered="load" />
        </li>
        <li v-for="x in today.seconds" :key="x.number" class="end" data-second>
          <span class="mark ring"><v-icon :icon="mdiAccountMultipleCheckOutline" /></span>
          <div class="what">
            <div><strong>leave asked for</strong> <router-link :to="`/units/${x.unit}`" class="mono">{{ x.serial }}</router-link><template v-if="x.site">, {{ x.site }}</template>: {{ x.kind === 'restore' ? say('back to {1}', x.version) : x.version }}</div>
            <div class="muted">{{ x.wants.map((w) => permits[w.for] ?? gates[w.for] ?? w.for).join(', ') }}. {{ sentence(x.reason) }}</div>
          </div>
          <div class="who small">{{ x.by }} <br /><span class="muted">{{ say('since {1}', when(x.at)) }}</span></div>
          <v-btn variant="outlined" :to="`/seconds/${x.number}`">{{ session.may('lead') && !x.own ? 'Decide' : 'See it' }}</v-btn>
        </li>
        <li v-for="o in today.left" :key="o.unit + o.kind + o.section + o.item" class="end" data-left>
          <span class="mark half"><v-icon :icon="mdiHandBackRightOutline" /></span>
          <div class="what">
            <div><strong>left at it</strong> <router-link :to="`/units/${o.unit}`" class="mono">{{ o.serial }}</router-link><template v-if="o.site">, {{ o.site }}</template></div>
            <div class="muted">{{ o.says }} {{ sentence(o.reason) }}</div>
          </div>
          <div class="who small">{{ o.by }} <br /><span class="muted">{{ say('since {1}', when(o.since)) }}</span></div>
          <v-btn variant="outlined" :to="`/units/${o.unit}`">See to it</v-btn>
        </li>
        <li v-for="c in today.withdrawn" :key="c.unit.id" class="end" data-withdrawn>
          <span class="mark half"><v-icon :icon="mdiUndoVariant" /></span>
          <div class="what">
            <div><strong class="brick">{{ say('runs {1}, withdrawn', c.unit.running) }}</strong> <strong>{{ c.unit.modelName }} {{ c.unit.serial }}</strong><template v-if="c.unit.site">, {{ c.unit.site }}</template></div>
            <div class="muted">{{ sentence(c.why) }} {{ c.text }}</div>
            <NextSteps :todo="c" class="small" />
          </div>
          <div class="who small muted">{{ say('seen {1}', when(c.unit.seen)) }}</div>
          <v-btn variant="outlined" :to="`/units/${c.unit.id}`">Decide</v-btn>
        </li>
      </ul>
      <v-empty-state v-if="!ends" title="Every run is closed" text="Plug a unit in and identify it, and its work begins here.">
        <template #actions><v-btn color="primary" size="large" to="/benches">To the links</v-btn></template>
      </v-empty-state>
      <div v-if="today.wanting.behind || today.wanting.noBackup" class="later wanting" data-wanting>
        <h2>Units that want something</h2>
        <p v-if="today.wanting.behind"><Says :text="others ? '{1} should have another release than the one that runs: {2}, and others. {4}' : '{1} should have another release than the one that runs: {2}. {4}'"><template #1><router-link to="/units?state=behind">{{ extent(today.wanting.behind, today.wanting.more, '{1} unit', '{1} units', 'more than {1} units') }}</router-link></template><template #2><template v-for="(m, i) in today.wanting.models" :key="m.model"><template v-if="i">, </template><router-link :to="`/units?state=behind&model=${m.model}`">{{ m.name }}</router-link> {{ m.units }}</template></template><template #4><span v-if="today.wanting.judging" class="muted">Some are still being judged.</span></template></Says></p>
        <p v-if="today.wanting.noBackup"><Says text="{1} without a backup."><template #1><router-link to="/units?state=no-backup">{{ extent(today.wanting.noBackup, today.wanting.moreNoBackup, '{1} unit', '{1} units', 'more than {1} units') }}</router-link></template></Says></p>
      </div>
      <template v-if="today.jobs.length">
        <div class="row spread later"><h2>Jobs</h2><router-link to="/jobs" class="small">All jobs</router-link></div>
        <table class="plain stack">
          <thead><tr><th>Job</th><th>Planned</th><th>Reason</th><th>Asked by</th><th>Units</th><th>For</th></tr></thead>
          <tbody>
            <tr v-for="j in today.jobs" :key="j.number">
              <td><router-link :to="`/jobs/${j.number}`"><strong>{{ j.number }}</strong></router-link></td>
              <td data-label="planned" class="mono">{{ j.planned || 'not yet' }}</td>
              <td>{{ j.reason }}</td>
              <td data-label="asked by">{{ j.asked }}</td>
              <td data-label="units">{{ j.units }}</td>
              <td data-label="for">{{ j.person }}</td>
            </tr>
          </tbody>
        </table>
      </template>
      <template v-if="today.closed.length">
        <div class="row spread later"><h2>Closed lately</h2><router-link to="/runs" class="small">All runs</router-link></div>
        <table class="plain stack">
          <thead><tr><th>Unit</th><th>What</th><th>Version</th><th>Outcome</th><th>Why</th><th>By</th><th>Closed</th></tr></thead>
          <tbody>
            <tr v-for="r in today.closed" :key="r.id">
              <td><router-link :to="`/units/${r.unit.id}`" class="mono">{{ r.unit.serial }}</router-link></td>
              <td>{{ r.kind }}</td>
              <td class="mono">{{ r.from || '?' }}<template v-if="r.to !== r.from"> → {{ r.to || '?' }}</template></td>
              <td><router-link :to="`/runs/${r.id}`"><v-icon v-if="r.outcome === 'not-proven'" :icon="mdiCircleOffOutline" size="18" /><v-icon v-else-if="!['done', 'nothing-to-do'].includes(r.outcome)" :icon="mdiClose" size="18" class="brick" />{{ outcomes[r.outcome] }}</router-link></td>
              <td class="small">{{ jobWords(r) }}</td>
              <td data-label="by">{{ r.by }}</td>
              <td class="small">{{ when(r.closed) }}</td>
            </tr>
          </tbody>
        </table>
      </template>
    </template>
    <v-skeleton-loader v-else type="heading, list-item-two-line@3" color="background" />
  </div>
</template>

<style scoped>
.top { margin-top: 8px; }
.later { margin: 32px 0 4px; }
.end { display: grid; grid-template-columns: 44px minmax(0, 1fr) 190px auto; gap: 16px; align-items: center; }
.mark { width: 44px; height: 44px; display: grid; place-items: center; border-radius: 50%; border: 2px solid; }
.mark.half { color: rgb(var(--v-theme-error)); background: rgb(var(--v-theme-tint-brick)); }
.mark.ring { border-style: dashed; }
.mark.work { color: rgb(var(--v-theme-primary)); background: rgb(var(--v-theme-tint-blue)); }
@media (max-width: 700px) {
  .end { grid-template-columns: 44px minmax(0, 1fr); gap: 8px 12px; align-items: start; }
  .end > :nth-child(n + 3) { grid-column: 2; justify-self: start; }
  .who br { display: none; }
  .who span { margin-left: 4px; }
}
</style>
