<script setup lang="ts">
// What to do with a unit whose run has stopped: how sure it is, the choices in order of safety,
// the ladder of repeats.
import { mdiAlertCircle, mdiArrowDown, mdiBookOpenVariant, mdiCheck, mdiClose, mdiEyeOutline, mdiHelpCircleOutline } from '@mdi/js'
import { ref, watch } from 'vue'

import { api, problem, type Problem, type Trouble as Advice } from '../api/client'
import { conditions } from '../api/names'
import NextSteps from './NextSteps.vue'
import Trouble from './Trouble.vue'
import { session } from '../session'
import { clock, say, zone } from '../words'

const props = defineProps<{ run: string; unit: string; at: number }>()
const emit = defineEmits<{ choose: [what: string, slower: boolean]; changed: []; first: [what: string, slower: boolean] }>()
const advice = ref<Advice | null>(null)
const wrong = ref<Problem | null>(null)
const asking = ref('')
const apart = ref(false)
const why = ref('')
const place = ref('')

async function load() {
  const { data } = await api.GET('/api/runs/{run}/trouble', { params: { path: { run: props.run } } })
  if (data) take(data)
}
function take(a: Advice) {
  advice.value = a
  emit('first', a.choices[0]?.do ?? '', a.choices.some((c) => c.do === 'go-on' && c.slower))
}
watch(() => props.at, load, { immediate: true })

async function tried(rung: string) {
  asking.value = rung
  wrong.value = null
  try {
    const { data, error } = await api.POST('/api/runs/{run}/tried', { params: { path: { run: props.run } }, body: { rung: rung as 'plug' } })
    if (error) throw error
    take(data)
  } catch (e) {
    wrong.value = problem(e)
  }
  asking.value = ''
}

async function setApart() {
  asking.value = 'apart'
  wrong.value = null
  try {
    const { error } = await api.POST('/api/units/{unit}/decision', { params: { path: { unit: props.unit } }, body: { standing: 'set apart', reason: why.value, ...(place.value && { place: place.value }) } })
    if (error) throw error
    apart.value = false
    emit('changed')
  } catch (e) {
    wrong.value = problem(e)
  }
  asking.value = ''
}
</script>

<template>
  <section v-if="advice" class="advice" data-advice>
    <div class="row sure">
      <h2>How sure, and from what</h2>
      <div v-for="s in advice.sure" :key="s.section" class="one">
        <span>{{ s.section }} <strong>{{ conditions[s.condition] ?? s.condition }}</strong></span>
        <span class="row small muted"><span v-if="s.seen"><v-icon :icon="mdiEyeOutline" size="18" /> {{ say('{1} read from the unit', s.seen) }}</span><span v-if="s.journal"><v-icon :icon="mdiBookOpenVariant" size="18" /> {{ say('{1} by the journal', s.journal) }}</span><span v-if="s.unknown"><v-icon :icon="mdiHelpCircleOutline" size="18" /> {{ say('{1} cannot be told', s.unknown) }}</span></span>
      </div>
      <p class="why"><strong>{{ advice.why.text }}</strong></p>
    </div>
    <div class="two">
      <div>
        <table class="plain stack" data-choices>
          <thead><tr><th>What to do, safest first</th><th>it risks</th><th>it needs</th><th>helped</th></tr></thead>
          <tbody>
            <tr v-for="(c, i) in advice.choices" :key="c.do" :class="{ first: i === 0 }" :data-choose="c.do">
              <td><div class="what"><span class="n" :class="{ now: i === 0 }">{{ i + 1 }}</span> <span><strong>{{ c.says.text }}</strong><v-btn v-if="c.do === 'set-apart' && session.may('technician')" variant="text" color="primary" class="do" data-apart @click="apart = true">Set it apart…</v-btn><v-btn v-else-if="['go-on', 'restore'].includes(c.do) && session.may('technician')" variant="text" color="primary" class="do" :data-do="c.do" @click="emit('choose', c.do, !!c.slower)">{{ c.do === 'restore' ? 'Put it back…' : c.slower ? 'Go on, slower' : 'Go on' }}</v-btn><NextSteps v-else-if="c.do !== 'look'" :todo="c" class="small" /></span></div></td>
              <td data-label="it risks"><span :class="{ brick: c.grave }"><v-icon v-if="c.grave" :icon="mdiAlertCircle" size="18" /> {{ c.risks.text }}</span></td>
              <td data-label="it needs">{{ c.needs.text }}</td>
              <td class="counts" data-label="helped">{{ c.past ? say('{1} of {2}', c.past.helped, c.past.all) : '' }}</td>
            </tr>
          </tbody>
        </table>
        <form v-if="apart" class="apart" @submit.prevent="setApart">
          <v-text-field v-model="why" label="Why, in its history under your name" hide-details data-apart-why />
          <v-text-field v-model="place" label="Where it is put" hide-details data-apart-place />
          <div class="row"><v-btn type="submit" color="primary" :disabled="why.trim().length < 3" :loading="asking === 'apart'" data-apart-yes>Set it apart</v-btn><v-btn variant="text" @click="apart = false">Leave it</v-btn></div>
        </form>
        <Trouble v-if="wrong" :problem="wrong" />
      </div>
      <div data-ladder>
        <h2>The ladder, as tried</h2>
        <ol class="ladder">
          <li v-for="(r, i) in advice.ladder" :key="i" :class="r.state" :data-rung="r.rung">
            <span class="sign"><v-icon :icon="r.tried ? (r.tried.answered ? mdiCheck : mdiClose) : r.state === 'next' ? mdiArrowDown : ''" size="20" /></span>
            <span>
              <strong v-if="r.state === 'next'" class="next">next</strong> <strong>{{ r.says.text }}</strong>
              <span v-if="r.tried" class="small muted block">{{ clock(new Date(r.tried.at / 1000)) }} {{ zone(new Date()) }}, {{ r.tried.says.text }}<template v-if="r.tried.by">, {{ r.tried.by }}</template></span>
              <span v-if="r.past" class="small muted block">{{ say('helped {1} of {2} times on this model', r.past.helped, r.past.all) }}</span>
              <v-btn v-if="r.state === 'next' && r.rung !== 'stop' && session.may('technician')" variant="outlined" class="ask" :loading="!!asking" :data-tried="r.rung" @click="tried(r.rung)">{{ r.rung === 'slower' ? 'Ask it at that speed' : r.rung === 'ask' ? 'Ask it' : 'Done: ask it' }}</v-btn>
            </span>
          </li>
        </ol>
      </div>
    </div>
  </section>
</template>

<style scoped>
.advice { margin: 8px 0 24px; display: grid; grid-template-columns: minmax(0, 1fr); gap: 12px; }
.sure { gap: 28px; border-bottom: 1px solid var(--line); padding-bottom: 10px; align-items: start; }
.one { display: grid; border-left: 1px solid var(--line); padding-left: 16px; }
.why { max-width: 60ch; }
.two { display: grid; grid-template-columns: minmax(0, 2.6fr) minmax(0, 1fr); gap: 28px; align-items: start; }
.first { background: rgb(var(--v-theme-surface)); outline: 2px solid rgb(var(--v-theme-primary)); border-radius: 6px; }
.what { min-width: 220px; display: grid; grid-template-columns: 44px 1fr; }
.n { display: inline-grid; place-items: center; width: 28px; height: 28px; border: 1.5px solid var(--outline); border-radius: 50%; margin: 0 8px; font-weight: 700; flex: none; }
.n.now { background: rgb(var(--v-theme-primary)); color: rgb(var(--v-theme-on-primary)); border-color: transparent; }
.do { display: flex; height: 44px; margin: -2px 0 -8px; padding: 0; justify-content: start; }
.apart { display: grid; gap: 8px; margin-top: 12px; max-width: 560px; }
.ladder { list-style: none; padding: 0; margin-top: 8px; }
.ladder li { display: grid; grid-template-columns: 44px 1fr; gap: 8px; padding-bottom: 14px; position: relative; }
.ladder li:not(:last-child)::before { content: ''; position: absolute; left: 21px; top: 32px; bottom: 0; border-left: 3px solid var(--ink); }
.ladder li.ahead::before, .ladder li.next::before { border-left-style: dashed; border-color: var(--outline); }
.sign { display: grid; place-items: center; width: 32px; height: 32px; margin-left: 6px; border: 2px solid var(--ink); border-radius: 50%; }
.ahead .sign { border-style: dashed; border-color: var(--outline); }
.next .sign { border-color: rgb(var(--v-theme-primary)); }
strong.next { color: rgb(var(--v-theme-primary)); }
.ahead { color: var(--muted); }
.block { display: block; }
.ask { display: flex; margin-top: 6px; }
@media (max-width: 1000px) { .two { grid-template-columns: minmax(0, 1fr); } }
</style>
