<script setup lang="ts">
// A tray is opened: its release, its links, its units, its rules.
import { mdiViewGridPlusOutline } from '@mdi/js'
import { computed, reactive, ref, watch } from 'vue'

import { api, problem, type Link, type Model, type Problem, type Tray } from '../api/client'
import { allModels, allLinks } from '../lists'
import { gates } from '../api/names'
import { newest } from '../newest'
import { session } from '../session'
import { extent, say } from '../words'
import Trouble from './Trouble.vue'

const of = defineProps<{ model?: string; release?: string; behind?: boolean }>()
const emit = defineEmits<{ open: [tray: Tray] }>()
const passable = ['backup', 'protection', 'needs', 'adapter', 'procedure', 'release'].map((g) => ({ value: g, title: gates[g] }))
const shown = ref(false)
const busy = ref(false)
const trouble = ref<Problem | null>(null)
const models = ref<Model[]>([])
const versions = ref<string[]>([])
const links = ref<Link[]>([])
const to = reactive({ model: '', release: '', links: [] as string[], units: '', site: '', behind: false, any: false, inOrder: false, alone: true, stop: 2, reason: '', asked: '', test: '', waive: [] as string[] })

async function begin() {
  shown.value = true
  trouble.value = null
  const [m, l] = await Promise.all([allModels(), allLinks().catch(() => [])])
  models.value = m
  links.value = l
  if (of.model) to.model = of.model
  to.behind = !!of.behind
}
// How many the register knows that are due the release; what it does not know yet is not asked for.
const due = ref('')
const latest = newest()
watch([() => to.behind, () => to.model], async () => {
  const still = latest()
  due.value = ''
  if (!to.behind || !to.model) return
  const { data } = await api.GET('/api/units', { params: { query: { model: to.model, state: 'behind', size: 1 } } })
  if (!still() || !data) return
  due.value = data.total ? extent(data.total, data.more, '{1} unit of the model is due another release than the one that runs.', '{1} units of the model are due another release than the one that runs.', 'More than {1} units of the model are due another release than the one that runs.') : 'No unit of the model is due another release than the one that runs.'
})
watch(() => to.model, async (model) => {
  to.release = ''
  const { data } = await api.GET('/api/releases', { params: { query: { model, size: 100 } } })
  versions.value = data?.releases.map((r) => r.version) ?? []
  to.release = (model === of.model && of.release) || (versions.value[0] ?? '')
})
// A tray is at one bench.
const bench = computed(() => to.links[0]?.split('/')[0])
const offered = computed(() => links.value.filter((l) => !bench.value || l.bench === bench.value).map((l) => ({ value: l.link, title: l.serial ? say('{1}, {2} was on it', l.link, l.serial) : l.link })))

async function put() {
  busy.value = true
  trouble.value = null
  const { data, error } = await api.POST('/api/trays', { body: { ...to, stop: Number(to.stop) || 0, units: to.units.split(/[\s,;]+/).filter(Boolean) } })
  busy.value = false
  if (error) {
    trouble.value = problem(error)
    return
  }
  shown.value = false
  emit('open', data)
}
</script>

<template>
  <v-btn variant="outlined" :prepend-icon="mdiViewGridPlusOutline" data-open-tray @click="begin">Open a tray</v-btn>
  <v-dialog v-model="shown" max-width="820" scrollable>
    <v-card class="dialog">
      <h2>A tray: one release for many units</h2>
      <div class="row two">
        <v-autocomplete v-model="to.model" :items="models.map((m) => ({ value: m.model, title: m.name }))" label="Model" variant="outlined" hide-details data-field="model" />
        <v-select v-model="to.release" :items="versions" label="Release" hide-details data-field="release" />
      </div>
      <v-select v-model="to.links" :items="offered" label="Links, as they lie on the bench" multiple chips closable-chips hide-details data-field="links" />
      <v-textarea v-model="to.units" variant="outlined" rows="2" label="Serials, one after the other" hide-details data-field="units" />
      <div class="row two">
        <v-text-field v-model="to.site" label="And all of the model at this site" hide-details data-field="site" />
        <v-text-field v-model="to.stop" type="number" min="0" label="Stops after so many failures; 0 is never" hide-details data-field="stop" />
      </div>
      <v-checkbox v-model="to.behind" label="All that are due this release: at that site, or of the whole model where none is named" :hint="due" :persistent-hint="!!due" :hide-details="!due" density="compact" data-behind />
      <v-text-field v-model="to.reason" label="Why: what was ordered" hide-details data-field="reason" />
      <div class="row two">
        <v-text-field v-model="to.test" label="What is tried on each unit in the end" hide-details data-field="test" />
        <v-text-field v-model="to.asked" label="Who asked for it" hide-details data-field="asked" />
      </div>
      <v-select v-if="session.may('lead')" v-model="to.waive" :items="passable" label="Gates that you pass by your name for each unit, for that reason" multiple chips hide-details data-field="waive" />
      <v-checkbox v-model="to.any" label="Whatever is plugged in gets a place" hide-details density="compact" data-any />
      <v-checkbox v-model="to.inOrder" label="The serials are on the links, in this order" hide-details density="compact" data-in-order />
      <v-checkbox v-model="to.alone" label="The first goes alone, and opens the rest when it is proven" hide-details density="compact" data-alone />
      <Trouble v-if="trouble" :problem="trouble" />
      <div class="row end"><v-btn variant="text" @click="shown = false">Close</v-btn><v-btn color="primary" :disabled="!to.model || !to.release || !to.links.length || to.reason.trim().length < 3" :loading="busy" data-put-tray @click="put">Open it</v-btn></div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.two > * { flex: 1; min-width: 180px; }
</style>
