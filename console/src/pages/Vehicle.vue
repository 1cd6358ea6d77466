<script setup lang="ts">
// A whole vehicle: every module on its bus, what it runs, how it stands, which faults it
// has noted, and what to do. Asking changes nothing.
import { mdiArrowRight } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, problem, type Problem, type RoundRow, type Scanned } from '../api/client'
import BulletinList from '../parts/BulletinList.vue'
import DoNotDrive from '../parts/DoNotDrive.vue'
import ModuleNet from '../parts/ModuleNet.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { say, sentence, when } from '../words'

const props = defineProps<{ bench: string; link: string }>()
const at = `${props.bench}/${props.link}`
const router = useRouter()
const found = ref<Scanned | null>(null)
const trouble = ref<Problem | null>(null)
const busy = ref('')
const asked = ref<Date | null>(null)
const rounds = ref<RoundRow[]>([])
const reason = ref('')
const customer = ref('')

async function scan() {
  busy.value = 'scan'
  trouble.value = null
  const { data, error } = await api.POST('/api/scan', { body: { at } })
  busy.value = ''
  if (error) trouble.value = problem(error)
  else {
    found.value = data
    asked.value = new Date()
    if (data.unit) await past(data.unit)
  }
}

// past are the rounds of this vehicle, an open one first.
async function past(unit: string) {
  const { data } = await api.GET('/api/rounds', { params: { query: { unit, size: 5 } } })
  rounds.value = data?.rounds ?? []
}
const open = computed(() => rounds.value.find((r) => !r.closed))

// A round keeps what the modules say now as found, before anything is changed.
async function begin() {
  busy.value = 'begin'
  trouble.value = null
  const { data, error } = await api.POST('/api/rounds', { body: { at, reason: reason.value, asked: customer.value } })
  busy.value = ''
  if (error) trouble.value = problem(error)
  else router.push(`/rounds/${data.id}`)
}
if (session.may('technician')) scan()

const codes = computed(() => found.value?.modules.flatMap((m) => m.codes.map((c) => ({ ...c, module: m.title }))) ?? [])
const many = (n: number, one: string) => `${n} ${one}${n === 1 ? '' : 's'}`
</script>

<template>
  <div class="band">
    <div class="page head">
      <div>
        <h1>{{ found?.modelName ?? 'Vehicle' }} <span v-if="found?.serial" class="mono serial">{{ found.serial }}</span></h1>
        <p class="muted"><Says :text="asked ? 'This is on {1}, asked at {2}' : 'This is on {1}'" :put="{ 2: asked?.toLocaleTimeString('en-GB') }"><template #1><span class="mono">{{ at }}</span></template></Says></p>
      </div>
      <v-btn v-if="session.may('technician')" variant="flat" color="primary" size="large" :disabled="busy === 'scan'" data-scan @click="scan">{{ busy === 'scan' ? 'Asking …' : 'Ask all modules' }}</v-btn>
    </div>
  </div>
  <div class="page">
    <Trouble v-if="trouble" :problem="trouble" />
    <p v-else-if="!found" class="lead">{{ busy ? 'All modules are asked who they are …' : 'A technician can ask the modules.' }}</p>
    <template v-if="found">
      <DoNotDrive :modules="found.modules" />
      <p v-for="w in found.warn" :key="w" class="warn" role="alert" data-warn><strong>Warning.</strong> {{ w }}</p>
      <p class="lead" data-sum><Says text="{1}, {2}, {3} behind{4}." :put="{ 1: many(found.modules.length, 'module'), 2: many(found.faults, 'fault code'), 3: found.behind }"><template v-if="found.silent" #4>, <strong class="brick">{{ say('{1} silent that should answer', found.silent) }}</strong></template></Says></p>
      <section class="round" data-round>
        <template v-if="open">
          <h2>A round of it is open</h2>
          <p>{{ say('{1} Begun {2} by {3}.', sentence(open.reason), when(open.at), open.by) }}</p>
          <v-btn variant="flat" color="primary" size="large" :append-icon="mdiArrowRight" :to="`/rounds/${open.id}`" data-go-on>Go on with it</v-btn>
        </template>
        <template v-else-if="session.may('technician')">
          <h2>Begin a round</h2>
          <p class="muted">What the modules say now is kept as found. After the writing the tool leads through key, clearing and learning, and holds every fault code against what was there before.</p>
          <form class="row" @submit.prevent="begin">
            <v-text-field v-model="reason" label="Why: what was ordered, or what the driver says" hide-details data-reason />
            <v-text-field v-model="customer" label="Who asked for it" hide-details data-asked />
            <v-btn type="submit" variant="flat" color="primary" size="large" :disabled="reason.trim().length < 3" :loading="busy === 'begin'" data-begin>Begin</v-btn>
          </form>
        </template>
        <ul v-if="rounds.some((r) => r.closed)" class="rows">
          <li v-for="r in rounds.filter((r) => r.closed)" :key="r.id"><router-link :to="`/rounds/${r.id}`">{{ when(r.at) }}</router-link> {{ sentence(r.reason) }} <span class="muted">{{ r.by }}</span></li>
        </ul>
      </section>
      <ModuleNet :modules="found.modules" work />
      <section v-if="found.modules.some((m) => m.bulletins.length)">
        <h2>Bulletins</h2>
        <BulletinList v-for="m in found.modules.filter((m) => m.bulletins.length)" :key="m.slot" :bulletins="m.bulletins" :of="m.title" />
      </section>
      <section v-if="codes.length" data-codes>
        <h2>Fault codes</h2>
        <table class="plain stack"><thead><tr><th>Code</th><th>Module</th><th>Meaning</th><th>Status</th></tr></thead><tbody>
          <tr v-for="c in codes" :key="c.module + c.code"><td class="mono"><strong>{{ c.code }}</strong></td><td data-label="module">{{ c.module }}</td><td data-label="meaning">{{ c.says || 'no text in the sheet' }}</td><td data-label="status">{{ c.is.join(', ') }}</td></tr>
        </tbody></table>
      </section>
    </template>
  </div>
</template>

<style scoped>
.head { display: flex; flex-wrap: wrap; gap: 16px; justify-content: space-between; align-items: center; padding-block: 16px; }
.serial { font-size: 0.7em; font-weight: 400; }
.warn { background: rgb(var(--v-theme-tint-amber)); padding: 10px 16px; border-radius: 8px; margin-bottom: 12px; }
.round { border: 1px solid var(--line); border-radius: 8px; padding: 16px 20px; margin: 12px 0 20px; }
.round p { margin-bottom: 10px; max-width: 90ch; }
.round form > :first-child { flex: 2 1 320px; }
.round form > :nth-child(2) { flex: 1 1 200px; }
.round .rows { margin-top: 12px; }
</style>
