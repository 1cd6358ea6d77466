<script setup lang="ts">
// A job: why, for whom, what counts as done, and how far it is with each unit.
import { mdiCheckCircle, mdiCircleOutline, mdiCloseCircle, mdiFerry, mdiMinusCircleOutline, mdiPause } from '@mdi/js'
import { ref } from 'vue'

import { api, problem, type JobPage, type Problem } from '../api/client'
import { every } from '../every'
import JobForm from '../parts/JobForm.vue'
import TestAnswer from '../parts/TestAnswer.vue'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { jobStands, listed, outcomes, say, sentence, tests, when } from '../words'

const props = defineProps<{ job: string }>()
const page = ref<JobPage | null>(null)
const trouble = ref<Problem | null>(null)
const said = ref<Problem | null>(null)
const note = ref('')
const leaving = ref<{ unit: string; serial: string } | null>(null)
const why = ref('')
const busy = ref(false)
const icons: Record<string, [string, string]> = { done: [mdiCheckCircle, 'teal'], 'not-done': [mdiCloseCircle, 'brick'], 'at-work': [mdiFerry, ''], interrupted: [mdiPause, 'brick'], 'to-do': [mdiCircleOutline, ''] }

async function load() {
  try {
    const { data, error } = await api.GET('/api/jobs/{job}', { params: { path: { job: Number(props.job) } } })
    if (error) throw error
    page.value = data
    trouble.value = null
  } catch (e) {
    trouble.value = problem(e)
  }
}
every(5000, load)

async function change(what: 'close' | 'leave') {
  busy.value = true
  said.value = null
  const path = { params: { path: { job: Number(props.job) } } }
  try {
    const { data, error } = what === 'close' ? await api.POST('/api/jobs/{job}/close', { ...path, body: { note: note.value } }) : await api.POST('/api/jobs/{job}', { ...path, body: { leave: [{ unit: leaving.value!.unit, why: why.value }] } })
    if (error) throw error
    page.value = data
    leaving.value = null
    why.value = ''
  } catch (e) {
    said.value = problem(e)
  }
  busy.value = false
}
</script>

<template>
  <div class="page">
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-else-if="page">
      <div class="row spread">
        <h1>{{ page.closed ? say('Job {1}, closed', page.number) : say('Job {1}', page.number) }}</h1>
        <JobForm v-if="!page.closed && session.may('technician')" :job="page" @put="(j) => (page = j)" />
      </div>
      <p class="lead">{{ page.reason || 'No reason was given.' }}</p>
      <dl>
        <template v-if="page.asked"><dt>Asked by</dt><dd>{{ page.asked }}</dd></template>
        <template v-if="page.test"><dt>Done when</dt><dd><strong>{{ page.test }}</strong></dd></template>
        <dt>Planned</dt><dd>{{ page.planned || 'not yet' }}<template v-if="page.person">, {{ say('for {1}', page.person) }}</template></dd>
        <dt>Entered</dt><dd>{{ when(page.at) }}, {{ page.by }}</dd>
        <template v-if="page.closed"><dt>Closed</dt><dd>{{ when(page.closed) }}, {{ page.closer }}. {{ page.closing }}</dd></template>
      </dl>
      <h2 class="gap">{{ say('Units, {1} of {2} done', page.scope.length - page.open, page.scope.length) }}</h2>
      <p v-if="page.scope.length && session.may('technician')"><v-btn variant="outlined" :href="`/api/jobs/${page.number}/take.zip`" :download="`job-${page.number}.zip`" data-take>Take the files along</v-btn> <span class="small muted">Cards, releases and model sheets, for where there is no network.</span></p>
      <ul class="rows" data-scope>
        <li v-for="x in page.scope" :key="x.unit.id" class="one">
          <v-icon :icon="icons[x.stands]![0]" :class="icons[x.stands]![1]" size="24" />
          <div>
            <div><router-link :to="`/units/${x.unit.id}`" class="mono"><strong>{{ x.unit.serial }}</strong></router-link> {{ x.unit.modelName }}<template v-if="x.unit.site">, {{ x.unit.site }}</template></div>
            <div class="muted">{{ jobStands[x.stands] }}<template v-if="x.run && x.stands !== 'done'">: <router-link :to="`/runs/${x.run}`">{{ outcomes[x.outcome] }}</router-link></template></div>
            <div v-for="t in x.tests" :key="t.item" class="row test"><span>{{ t.says }} <strong>{{ listed(tests[t.state], t.whose && say('to {1} until {2}', t.whose, t.due)) }}</strong></span><TestAnswer v-if="session.may('technician')" :test="t" @answered="load" /></div>
          </div>
          <div class="row acts">
            <v-btn variant="text" :to="`/card/${x.unit.id}`">Card</v-btn>
            <v-btn v-if="x.unit.link && x.stands !== 'done' && x.stands !== 'at-work' && x.stands !== 'interrupted' && session.may('technician') && !page.closed" variant="outlined" :to="`/begin/${x.unit.link}`">Begin</v-btn>
            <v-btn v-if="!page.closed && x.stands !== 'done' && session.may('technician')" variant="text" data-leave @click="leaving = { unit: x.unit.id, serial: x.unit.serial }">Leave out</v-btn>
          </div>
        </li>
        <li v-for="l in page.left" :key="l.unit + l.part" class="one">
          <v-icon :icon="mdiMinusCircleOutline" size="24" />
          <div><span class="mono">{{ l.serial }}</span> {{ l.part }} <span class="muted">{{ say('left as it is: {1} {2}, {3}', sentence(l.why), l.by, when(l.at)) }}</span></div>
        </li>
      </ul>
      <p v-if="!page.scope.length && !page.left.length" class="muted">No unit is in it yet.</p>
      <Trouble v-if="said" :problem="said" />
      <form v-if="!page.closed && session.may('technician')" class="row gap close" @submit.prevent="change('close')">
        <v-text-field v-if="page.open" v-model="note" label="Why it is closed though something is not done" data-field="closing" />
        <v-btn type="submit" :color="page.open ? undefined : 'primary'" :variant="page.open ? 'outlined' : 'elevated'" size="large" :disabled="page.open > 0 && note.trim().length < 3" :loading="busy" data-close>Close the job</v-btn>
      </form>
    </template>
    <v-skeleton-loader v-else type="heading, list-item-two-line@3" color="background" />
    <v-dialog :model-value="!!leaving" max-width="560" @update:model-value="leaving = null">
      <v-card class="dialog">
        <h2>{{ say('Leave {1} as it is', leaving?.serial) }}</h2>
        <v-text-field v-model="why" label="Why" data-field="why" />
        <div class="row end"><v-btn variant="text" @click="leaving = null">Close</v-btn><v-btn color="primary" :disabled="why.trim().length < 3" :loading="busy" data-put @click="change('leave')">Leave it out</v-btn></div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
dl { display: grid; grid-template-columns: 110px 1fr; gap: 8px 12px; margin-top: 16px; }
dt { color: var(--muted); }
.gap { margin-top: 24px; }
.one { display: grid; grid-template-columns: 32px minmax(0, 1fr) auto; gap: 12px; align-items: start; }
.test { margin-top: 6px; }
.close > :deep(.v-input) { max-width: 520px; }
@media (max-width: 700px) { .one { grid-template-columns: 32px minmax(0, 1fr); } .acts { grid-column: 2; } }
</style>
