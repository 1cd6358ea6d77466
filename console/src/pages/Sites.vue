<script setup lang="ts">
// Sites: whose they are, whom to ask, how to get in, and what holds for every unit there.
import { mdiMapMarkerPlusOutline } from '@mdi/js'
import { reactive, ref } from 'vue'

import { api, problem, type Problem, type Site } from '../api/client'
import PageTurner from '../parts/PageTurner.vue'
import { usePages } from '../pages'
import SiteProfile from '../parts/SiteProfile.vue'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { say } from '../words'

const sites = ref<Site[] | null>(null)
const trouble = ref<Problem | null>(null)
const wrong = ref<Problem | null>(null)
const open = ref(false)
const busy = ref(false)
const known = ref('')
const to = reactive({ name: '', customer: '', contact: '', note: '', facts: '' })

async function load() {
  const { data, error } = await api.GET('/api/sites', { params: { query: { after: pages.after.value, size } } })
  if (error) {
    trouble.value = problem(error)
    return
  }
  sites.value = data.sites
  pages.take(data)
}
const size = 50
const pages = usePages(load)
load()

function begin(s?: Site) {
  Object.assign(to, { name: s?.name ?? '', customer: s?.customer ?? '', contact: s?.contact ?? '', note: s?.note ?? '', facts: Object.entries(s?.facts ?? {}).map(([k, v]) => `${k}=${v}`).join(', ') })
  known.value = s?.name ?? ''
  wrong.value = null
  open.value = true
}

async function put() {
  busy.value = true
  wrong.value = null
  const facts = Object.fromEntries(to.facts.split(',').map((x) => x.split('=').map((y) => y.trim())).filter((x) => x[0]).map(([k, v]) => [k, v ?? '']))
  try {
    const { error } = await api.POST('/api/sites', { body: { name: to.name, customer: to.customer, contact: to.contact, note: to.note, facts } })
    if (error) throw error
    open.value = false
    load()
  } catch (e) {
    wrong.value = problem(e)
  }
  busy.value = false
}
</script>

<template>
  <div class="page">
    <div class="row spread"><h1>Sites</h1><v-btn v-if="session.may('technician')" variant="outlined" :prepend-icon="mdiMapMarkerPlusOutline" data-site @click="begin()">Enter a site</v-btn></div>
    <p class="muted">A unit is at a site if its place is the site’s name, or begins with it and a comma.</p>
    <Trouble v-if="trouble" :problem="trouble" />
    <table v-if="sites?.length" class="plain stack">
      <thead><tr><th>Site</th><th>Customer</th><th>Whom to ask</th><th>How to get in</th><th>Holds for every unit there</th><th>On its network</th><th /></tr></thead>
      <tbody>
        <tr v-for="s in sites" :key="s.name">
          <td><router-link :to="{ path: '/units', query: { q: s.name } }"><strong>{{ s.name }}</strong></router-link></td><td data-label="customer">{{ s.customer }}</td><td data-label="ask">{{ s.contact }}</td><td data-label="get in">{{ s.note }}</td>
          <td>{{ Object.entries(s.facts).map(([k, v]) => `${k} ${v}`).join(', ') }}</td>
          <td data-label="on its network"><div v-for="x in s.addresses ?? []" :key="x.serial + x.title" class="small" :data-address="x.serial"><router-link :to="`/units/${x.serial}`" class="mono">{{ x.serial }}</router-link> {{ x.title.toLowerCase() }} <strong>{{ x.value }}</strong> <span v-if="x.public" class="brick">public default</span></div></td>
          <td><v-btn v-if="session.may('technician')" variant="text" :aria-label="say('Change {1}', s.name)" @click="begin(s)">Change</v-btn></td>
        </tr>
      </tbody>
    </table>
    <v-empty-state v-else-if="sites" title="No site yet" text="Enter one, and whoever goes there knows whom to ask and how to get in." />
    <PageTurner v-if="!trouble && sites && (sites.length || pages.next.value)" :pages="pages" :size="size" :shown="sites.length" called="sites" one="{1} site" many="{1} sites" over="more than {1} sites" />
    <v-dialog v-model="open" max-width="640">
      <v-card class="dialog">
        <h2>{{ to.name || 'A site' }}</h2>
        <v-text-field v-model="to.name" label="Name" data-field="name" />
        <v-text-field v-model="to.customer" label="Customer" data-field="customer" />
        <v-text-field v-model="to.contact" label="Whom to ask" data-field="contact" />
        <v-textarea v-model="to.note" variant="outlined" rows="2" label="How to get in" data-field="note" />
        <v-text-field v-model="to.facts" label="Holds for every unit there: region=inner-sound, supply=own" data-field="facts" />
        <Trouble v-if="wrong" :problem="wrong" />
        <template v-if="known"><h3>What its units are set to</h3><SiteProfile kind="site" :of="known" /></template>
        <div class="row end"><v-btn variant="text" @click="open = false">Close</v-btn><v-btn color="primary" :disabled="to.name.trim().length < 2" :loading="busy" data-put @click="put">Keep it</v-btn></div>
      </v-card>
    </v-dialog>
  </div>
</template>
