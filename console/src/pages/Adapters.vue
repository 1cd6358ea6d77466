<script setup lang="ts">
// Adapters are things with a record: how they are set, what they worked with.
import { mdiAlert, mdiCheckCircle } from '@mdi/js'
import { reactive, ref } from 'vue'

import { api, problem, type Adapter, type Problem } from '../api/client'
import { allAdapters } from '../lists'
import Trouble from '../parts/Trouble.vue'
import { session } from '../hands'
import Says from '../parts/Says.vue'
import { listed, say, when } from '../words'

const all = ref<Adapter[] | null>(null)
const trouble = ref<Problem | null>(null)
const editing = ref(false)
const states = ['ready', 'lent', 'set-aside', 'retired'] as const
const form = reactive({ serial: '', name: '', volts: '', inverted: false, firmware: '', latency: 0, state: 'ready' as (typeof states)[number], note: '' })

async function load() {
  try {
    all.value = await allAdapters()
  } catch (e) {
    trouble.value = problem(e)
  }
}
function edit(a?: Adapter) {
  Object.assign(form, { serial: '', name: '', volts: '', inverted: false, firmware: '', latency: 0, state: 'ready', note: '' }, a && { serial: a.serial, name: a.name, volts: a.volts ?? '', inverted: a.inverted, firmware: a.firmware ?? '', latency: a.latency ?? 0, state: a.state, note: a.note ?? '' })
  editing.value = true
}
async function put() {
  const { error } = await api.POST('/api/adapters', { body: { ...form, latency: Number(form.latency) } })
  if (error) trouble.value = problem(error)
  else editing.value = false
  load()
}
load()
</script>

<template>
  <div class="page">
    <div class="row spread"><h1>Adapters</h1><v-btn v-if="session.may('technician')" color="primary" data-enter @click="edit()">Enter an adapter</v-btn></div>
    <p class="muted">The thing between bench and unit. One that was left inverted or at the wrong voltage spoils the next job.</p>
    <Trouble v-if="trouble" :problem="trouble" />
    <v-empty-state v-if="all && !all.length" title="No adapter yet" text="Enter those that the team has; what they work with is learned from runs." />
    <ul v-else-if="all" class="rows">
      <li v-for="a in all" :key="a.serial" class="adapter" :data-adapter="a.serial">
        <div><strong class="mono">{{ a.serial }}</strong><div>{{ a.name }}</div><div class="small muted">{{ a.state.replace('-', ' ') }}</div></div>
        <div><span class="muted">Set to</span> <strong>{{ listed(a.volts || 'not told', a.inverted && 'inverted') }}</strong>
          <div v-if="(a.latency ?? 0) > 1" class="row tight warn"><v-icon :icon="mdiAlert" size="20" /> {{ say('Its driver holds bytes back for {1} ms; set it to 1 ms', a.latency) }}</div>
          <div v-if="a.firmware" class="small"><Says :text="a.newer ? 'own firmware {1} → {2}' : 'own firmware {1}'"><template #1><span class="mono">{{ a.firmware }}</span></template><template #2><strong class="mono">{{ a.newer }}</strong></template></Says></div>
          <v-btn v-if="a.newer && session.may('technician')" variant="outlined" color="primary" :to="a.at ? `/begin/${a.at}` : `/units/${a.unit}`" data-update>Bring it up to date</v-btn><div class="small muted">{{ a.note }}</div></div>
        <div><div v-if="a.tested" class="row tight" :class="a.sound ? 'teal' : 'brick'"><v-icon :icon="a.sound ? mdiCheckCircle : mdiAlert" size="20" /> {{ a.sound ? 'sound' : 'sends nothing' }}, {{ when(a.tested) }}</div><span v-else class="dashed">no self-test yet</span>
          <div v-for="f in a.families" :key="f.model" class="small">{{ say('{1}: worked {2}×', f.model, f.worked) }}<template v-if="f.failed">, <span class="brick">{{ say('failed {1}×', f.failed) }}</span></template></div></div>
        <div class="small"><span v-for="l in a.links.slice(0, 4)" :key="l"><router-link :to="`/check/${l}`" class="mono place">{{ l }}</router-link></span><span v-if="a.links.length > 4" class="muted place">{{ say('{1} more', a.links.length - 4) }}</span></div>
        <v-btn v-if="session.may('technician')" variant="text" color="primary" :aria-label="say('Change {1}', a.serial)" data-change @click="edit(a)">Change</v-btn>
      </li>
    </ul>
    <v-dialog v-model="editing" max-width="560">
      <v-card><v-card-title>Adapter</v-card-title><v-card-text>
        <v-text-field v-model="form.serial" label="Serial" data-field="serial" /><v-text-field v-model="form.name" label="Name, as sheets call it" data-field="name" />
        <v-text-field v-model="form.volts" label="Voltage position" data-field="volts" /><v-checkbox v-model="form.inverted" label="Its lines are inverted" hide-details />
        <v-text-field v-model="form.firmware" label="Its own firmware" /><v-text-field v-model="form.latency" type="number" label="Driver holds bytes back, ms" />
        <v-select v-model="form.state" :items="[...states]" label="State" /><v-text-field v-model="form.note" label="Note" />
      </v-card-text><v-card-actions><v-spacer /><v-btn variant="text" @click="editing = false">Leave it</v-btn><v-btn color="primary" :disabled="!form.serial || !form.name" data-keep @click="put">Keep</v-btn></v-card-actions></v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.adapter { display: grid; grid-template-columns: 180px 1.3fr 1.2fr 1fr auto; gap: 20px; align-items: start; }
.tight { gap: 6px; flex-wrap: nowrap; }
.warn { color: rgb(var(--v-theme-warning-ink)); }
.dashed { border: 1.5px dashed var(--outline); padding: 2px 8px; border-radius: 4px; }
.place { display: inline-block; min-height: 28px; margin-right: 12px; }
@media (max-width: 900px) { .adapter { grid-template-columns: 1fr; gap: 8px; } }
</style>
