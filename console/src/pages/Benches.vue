<script setup lang="ts">
import { mdiCircle, mdiCircleOutline, mdiLaptop, mdiLanDisconnect } from '@mdi/js'
import { computed, reactive, ref } from 'vue'

import { api, problem, type Bench, type Link, type Problem } from '../api/client'
import { allBenches, allLinks } from '../lists'
import { every } from '../every'
import AskedNow from '../parts/AskedNow.vue'
import EnrolBench from '../parts/EnrolBench.vue'
import IdentifyWith from '../parts/IdentifyWith.vue'
import PortWatch from '../parts/PortWatch.vue'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { classes } from '../hands'
import { ago, linkKinds, listed, say, sayOf, when } from '../words'

const benches = ref<Bench[]>([])
const links = ref<Link[]>([])
const loaded = ref(false)
const trouble = ref<Problem | null>(null)
const asking = reactive(new Map<string, boolean>())
const said = reactive(new Map<string, Problem>())

async function load() {
  try {
    ;[benches.value, links.value] = await Promise.all([allBenches(), allLinks()])
    trouble.value = null
  } catch (e) {
    trouble.value = problem(e)
  }
  loaded.value = true
}
every(3000, load)

const taken = (l: Link) => l.state === 'busy' || (l.state === 'free' && !!l.asked)

async function identify(l: Link) {
  asking.set(l.link, true)
  said.delete(l.link)
  try {
    const { error } = await api.POST('/api/identify', { body: { at: l.link } })
    if (error) throw error
  } catch (e) {
    said.set(l.link, problem(e))
  }
  asking.delete(l.link)
  load()
}

async function drop(l: Link) {
  const { error } = await api.POST('/api/links', { body: { link: l.link, remove: true } })
  if (error) said.set(l.link, problem(error))
  load()
}

const revoking = ref<Bench | null>(null)
const wrong = ref<Problem | null>(null)
const renaming = ref<Bench | null>(null)
const name = ref('')
async function rename() {
  const { error } = await api.POST('/api/benches/{bench}/name', { params: { path: { bench: renaming.value!.id } }, body: { name: name.value.trim() } })
  wrong.value = error ? problem(error) : null
  if (error) return
  renaming.value = null
  await load()
}
async function revoke() {
  const { error } = await api.POST('/api/benches/{bench}/revoke', { params: { path: { bench: revoking.value!.id } } })
  wrong.value = error ? problem(error) : null
  if (!error) revoking.value = null
  load()
}

const of = computed(() => (b: Bench) => links.value.filter((l) => l.bench === b.name))
const drift = (b: Bench) => (Math.abs(b.clockError) > 2e6 ? say('its clock is {1} s off', (b.clockError / 1e6).toFixed(0)) : '')
</script>

<template>
  <div class="page">
    <div class="row gear"><EnrolBench v-if="session.may('lead')" /><router-link to="/adapters">Adapters and what they are set to</router-link></div>
    <Trouble v-if="trouble" :problem="trouble" />
    <v-empty-state v-else-if="loaded && !benches.length" title="No bench yet" text="A bench is a machine with links. A lead makes a code for it here; the machine joins with that." />
    <section v-for="b in benches" :key="b.id" class="bench">
      <div class="row spread">
        <h1><v-icon :icon="mdiLaptop" /> {{ say('Bench {1}', b.name) }}</h1>
        <span class="row"><v-btn v-if="b.online && session.may('technician') && of(b).length > 1" variant="text" color="primary" data-identify-all @click="of(b).filter((l) => l.state === 'free').forEach(identify)">Identify all</v-btn><v-btn v-if="!b.revoked && session.may('lead')" variant="text" data-rename @click="((renaming = b), (name = b.name))">Rename…</v-btn><v-btn v-if="!b.revoked && session.may('lead')" variant="text" color="error" data-revoke @click="revoking = b">Revoke…</v-btn></span>
        <span :class="b.online ? 'muted' : 'brick'">{{ listed(b.revoked ? 'revoked' : b.online ? 'joined to the service' : say('out of touch since {1}', when(b.seen)), drift(b), say('version {1}', b.version)) }}</span>
      </div>
      <hr class="rule" />
      <ul class="rows links">
        <li v-for="l in of(b)" :key="l.link" :data-link="l.link">
          <div class="link">
            <div class="name"><strong class="mono">{{ l.link }}</strong><div class="small muted">{{ linkKinds[l.kind] ?? l.kind }}</div></div>
            <div class="state"><v-icon :icon="taken(l) ? mdiCircle : l.state === 'free' ? mdiCircleOutline : mdiLanDisconnect" size="20" :color="taken(l) ? 'primary' : l.state === 'free' ? 'secondary' : 'error'" /> {{ taken(l) ? 'in use' : l.state }}</div>

            <div class="on">
              <template v-if="l.unit"><router-link :to="`/units/${l.unit}`" class="mono">{{ l.serial }}</router-link><span v-if="l.site">, {{ l.site }}</span><span v-if="l.modules">, {{ sayOf('{1} module behind it', '{1} modules behind it', l.modules) }}</span><div v-if="l.identified" class="small muted">{{ say('identified {1}, {2}', ago(l.identified), when(l.identified)) }}</div><div v-else class="small brick">the link has changed since it was identified</div></template>
              <template v-else><span class="unknown">what is on it is not known</span></template>
              <AskedNow v-if="l.asked || asking.get(l.link)" :at="l.link" />
              <div v-if="l.absent" class="small brick">{{ l.absent }}</div>
              <div v-if="l.checked" class="small" :class="l.class === 'sound' ? 'teal' : 'brick'">{{ say('{1}, checked {2}', classes[l.class ?? ''] ?? l.class, when(l.checked)) }}</div>
            </div>
            <div class="do">
              <v-btn v-if="l.run" variant="outlined" :to="`/runs/${l.run}`">Look at the run</v-btn>
              <template v-else-if="session.may('technician') && l.state === 'free'">
                <v-btn v-if="['doip', 'can-line', 'can-socket'].includes(l.kind)" variant="text" color="primary" :to="`/vehicle/${l.link}`" data-vehicle>All modules</v-btn>
                <v-btn v-else variant="text" color="primary" :to="`/check/${l.link}`" data-prove>Prove</v-btn>
                <v-btn variant="text" color="primary" :loading="asking.get(l.link)" data-identify @click="identify(l)">Identify</v-btn>
                <IdentifyWith :at="l.link" @identified="load" />
                <v-btn variant="outlined" :to="`/begin/${l.link}`" data-work>Start a run</v-btn>
              </template>
              <v-btn v-if="session.may('technician') && l.state === 'absent'" variant="text" color="error" data-link-remove @click="drop(l)">Remove the link</v-btn>
            </div>
          </div>
          <Trouble v-if="said.get(l.link)" :problem="said.get(l.link)!" />
        </li>
      </ul>
      <PortWatch v-if="b.online" :bench="b.name" />
    </section>
    <v-dialog :model-value="!!renaming" max-width="520" @update:model-value="renaming = null">
      <v-card><form class="ask" @submit.prevent="rename"><h2>{{ say('Another name for bench {1}', renaming?.name) }}</h2><p>Its links are called by it from then on. Runs, trays and rounds that are open must end first.</p><v-text-field v-model="name" label="Its name" autofocus data-new-name /><Trouble v-if="wrong" :problem="wrong" /><div class="row"><v-btn type="submit" color="primary" data-rename-yes>That is its name</v-btn><v-btn variant="text" @click="renaming = null">Leave it</v-btn></div></form></v-card>
    </v-dialog>
    <v-dialog :model-value="!!revoking" max-width="520" @update:model-value="revoking = null">
      <v-card class="ask"><h2>{{ say('Revoke bench {1}?', revoking?.name) }}</h2><p>It may not speak to the service any more, and gets no orders. What it has signed stays signed.</p><Trouble v-if="wrong" :problem="wrong" /><div class="row"><v-btn color="error" data-revoke-yes @click="revoke">Revoke it</v-btn><v-btn variant="text" @click="revoking = null">Leave it</v-btn></div></v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.gear { justify-content: flex-end; min-height: 44px; margin: -8px 0 8px; }
.bench + .bench { margin-top: 32px; }
.link { display: grid; grid-template-columns: 200px 110px 1fr auto; gap: 16px; align-items: center; }
.state { display: flex; gap: 8px; align-items: center; }
.do { display: flex; gap: 4px 8px; flex-wrap: wrap; justify-content: flex-end; max-width: 560px; }
.ask { padding: 24px; display: grid; gap: 14px; }
.unknown { border: 1.5px dashed var(--outline); padding: 2px 10px; border-radius: 4px; }
@media (max-width: 800px) { .link { grid-template-columns: 1fr 1fr; } .do, .on { grid-column: span 2; } }
</style>
