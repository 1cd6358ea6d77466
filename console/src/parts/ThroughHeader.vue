<script setup lang="ts">
// The way around a unit's own loader: a helper tool at its programming header.
import { mdiArrowRight } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, problem, type Admission, type Problem, type UnitPage } from '../api/client'
import { allLinks } from '../lists'
import { newest } from '../newest'
import { session } from '../session'
import { say, when } from '../words'
import BarList from './BarList.vue'
import Says from './Says.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ unit: UnitPage }>()
const router = useRouter()
const shown = ref(false)
const links = ref<string[]>([])
const own = ref('')
const tool = ref('')
const label = ref('')
const target = ref('')
const reason = ref('')
const bySaying = ref('')
const busy = ref(false)
const trouble = ref<Problem | null>(null)
const admission = ref<Admission | null>(null)

const targets = computed(() => [
  ...(props.unit.fit?.verdicts ?? []).filter((v) => v.verdict === 'fits').map((v) => ({ title: say('release {1}', v.version), value: `flash:${v.release}` })),
  ...props.unit.backups.filter((b) => !b.ruin).map((b) => ({ title: say('its backup of {1}, ran {2}', when(b.taken), b.running || '?'), value: `restore:${b.id}` })),
  { title: 'nothing: back up only', value: 'backup' },
])
const told = computed(() => own.value && tool.value && label.value.trim() && target.value)
const bars = computed(() => admission.value?.bars.filter((b) => b.rule !== 'reason') ?? [])
const passable = computed(() => session.may('lead') && bars.value.length > 0 && bars.value.every((b) => b.gate))
const wants = computed(() => {
  const [kind, id] = target.value.split(':')
  return {
    kind: kind as 'flash' | 'restore' | 'backup', at: own.value, header: tool.value, label: label.value.trim(),
    ...(kind === 'flash' && { release: id }), ...(kind === 'restore' && { backup: id }), ...(reason.value && { reason: reason.value }),
  }
})

async function show() {
  shown.value = true
  trouble.value = null
  links.value = (await allLinks().catch(() => [])).filter((l) => l.state === 'free').map((l) => l.link)
  own.value = props.unit.link && links.value.includes(props.unit.link) ? props.unit.link : ''
  target.value = targets.value[0]!.value
}

const asking = newest()
async function ask() {
  const still = asking()
  trouble.value = null
  if (!told.value) return
  const { data, error } = await api.POST('/api/admission', { body: wants.value })
  if (!still()) return
  admission.value = data ?? null
  trouble.value = error ? problem(error) : null
}

async function begin() {
  busy.value = true
  trouble.value = null
  const passed = passable.value && bySaying.value.trim().length > 2 ? { reason: bySaying.value, waive: [...new Set(bars.value.map((b) => b.gate!))] } : {}
  const { data, error } = await api.POST('/api/runs', { body: { ...wants.value, ...passed } })
  if (data) router.push(`/runs/${data.id}`)
  else trouble.value = problem(error)
  busy.value = false
}
</script>

<template>
  <v-btn variant="outlined" block data-through @click="show">Through its programming header…</v-btn>
  <v-dialog v-model="shown" max-width="640">
    <form class="through" data-through-form @submit.prevent="begin">
      <h2>Around its own loader</h2>
      <p><Says text="{1}. Nothing at the header tells which unit it is: its label does. {2}" :put="{ 1: unit.header }"><template #2><router-link :to="`/card/${unit.id}?header=true`" data-header-card>What to clip where</router-link></template></Says></p>
      <div class="two">
        <v-select v-model="tool" :items="links.filter((l) => l !== own)" label="The helper tool is on" data-header-tool @update:model-value="ask" />
        <v-select v-model="own" :items="links.filter((l) => l !== tool)" label="Its own lead is on" data-header-own @update:model-value="ask" />
      </div>
      <v-text-field v-model="label" label="Serial on its label" data-header-label @blur="ask" />
      <v-select v-model="target" :items="targets" label="What goes in" data-header-target @update:model-value="ask" />
      <v-text-field v-model="reason" label="Why is this done?" data-header-reason @blur="ask" />
      <BarList v-if="bars.length" :bars="bars" />
      <v-text-field v-if="passable" v-model="bySaying" label="Pass this by your name: why?" data-header-pass />
      <Trouble v-if="trouble" :problem="trouble" />
      <div class="row spread"><v-btn variant="text" @click="shown = false">Not now</v-btn><v-btn type="submit" color="primary" :loading="busy" :disabled="!told" :append-icon="mdiArrowRight" data-header-go>{{ bars.length && !(passable && bySaying.trim().length > 2) ? 'Have it refused, on the record' : 'Begin' }}</v-btn></div>
    </form>
  </v-dialog>
</template>

<style scoped>
.through { background: rgb(var(--v-theme-surface)); padding: 24px; border-radius: 8px; display: grid; gap: 12px; max-height: 90vh; overflow: auto; }
.two { display: grid; grid-template-columns: 1fr 1fr; gap: 12px; }
@media (max-width: 600px) { .two { grid-template-columns: minmax(0, 1fr); } }
</style>
