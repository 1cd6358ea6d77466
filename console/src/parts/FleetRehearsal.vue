<script setup lang="ts">
// A release rehearsed over the backups of the units of its model.
import { mdiCheckCircle, mdiCloseCircle, mdiHelpCircle, mdiMinusCircle } from '@mdi/js'
import { computed, ref } from 'vue'

import { api, problem, type Problem, type Rehearsal } from '../api/client'
import { outcomes, settingWays } from '../api/names'
import Trouble from './Trouble.vue'
import { say, sentence } from '../words'
import Says from './Says.vue'

const props = defineProps<{ release: string; version: string }>()
const all = ref<Rehearsal[]>([])
const units = ref(0)
const busy = ref(false)
const begun = ref(false)
const wrong = ref<Problem | null>(null)
const well = computed(() => all.value.filter((r) => r.well).length)
const unknown = computed(() => all.value.filter((r) => !r.result).length)

async function begin() {
  busy.value = begun.value = true
  wrong.value = null
  all.value = []
  try {
    for (let after = ''; ; ) {
      const { data, error } = await api.POST('/api/releases/{release}/rehearsals', { params: { path: { release: props.release } }, body: { ...(after && { after }) } })
      if (error) throw error
      all.value.push(...data.rehearsals)
      units.value = data.units
      if (!data.next) break
      after = data.next
    }
  } catch (e) {
    wrong.value = problem(e)
  }
  busy.value = false
}

function word(r: Rehearsal) {
  if (!r.result) return 'cannot tell'
  if (r.result.outcome === 'nothing-to-do') return 'nothing to do'
  if (!r.well) return outcomes[r.result.outcome] ?? r.result.outcome
  return r.bars.length ? 'ends right, but is barred now' : 'ends right'
}
</script>

<template>
  <section class="fleet" data-fleet>
    <div class="row head"><h2>Rehearsed over the fleet</h2><v-btn variant="outlined" :loading="busy" data-rehearse-fleet @click="begin">{{ begun ? 'Rehearse again' : say('Rehearse {1} over all backups', version) }}</v-btn></div>
    <p v-if="!begun" class="small muted">Would it fit, would it end right, would the settings survive? Each unit of the model that has a backup gets a twin; no unit hears of it.</p>
    <Trouble v-if="wrong" :problem="wrong" />
    <v-progress-linear v-if="busy" :model-value="units ? (100 * all.length) / units : 0" :indeterminate="!units" color="primary" aria-label="Rehearsing" />
    <p v-if="all.length" role="status"><Says text="{1} {2} end right, {3} do not, of {4} nothing can be told." :put="{ 2: well, 3: all.length - well - unknown, 4: unknown }"><template #1><strong>{{ say('{1} of {2} units:', all.length, units) }}</strong></template></Says></p>
    <table v-if="all.length" class="plain stack">
      <thead><tr><th>Unit</th><th>Runs</th><th>{{ version }}</th><th>Settings</th><th>Lost</th></tr></thead>
      <tbody>
        <tr v-for="r in all" :key="r.id" :data-twin="r.unit">
          <td><router-link :to="`/units/${r.id}`" class="mono">{{ r.unit }}</router-link><div v-if="r.site" class="small muted">{{ r.site }}</div></td>
          <td data-label="runs" class="mono">{{ r.from }}</td>
          <td :data-label="version"><v-icon :icon="!r.result ? mdiHelpCircle : r.result.outcome === 'nothing-to-do' ? mdiMinusCircle : r.well ? mdiCheckCircle : mdiCloseCircle" :class="!r.result ? '' : r.well ? 'teal' : 'brick'" size="20" /> {{ word(r) }}<div v-if="r.no || !r.well" class="small">{{ sentence(r.no || r.result?.reason || '') }}</div><div v-else-if="r.bars.length" class="small">{{ r.bars[0]!.text }}</div></td>
          <td data-label="settings">{{ (r.result?.settings ?? []).map((x) => `${x.n} ${settingWays[x.how] ?? x.how}`).join(', ') }}</td>
          <td data-label="lost" class="brick">{{ (r.result?.lost ?? []).map((l) => l.name).join(', ') }}</td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.fleet { margin: 24px 0; }
.head { justify-content: space-between; gap: 16px; flex-wrap: wrap; }
</style>
