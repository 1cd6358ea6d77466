<script setup lang="ts">
// The serial ports of a bench, and what came and went since somebody began to look:
// pull an adapter out and put it in again to learn which port is its own.
import { mdiEyeOutline, mdiMinusCircle, mdiPlusCircle, mdiSwapHorizontal } from '@mdi/js'
import { computed, onUnmounted, ref } from 'vue'

import { api, problem, type Port, type Problem, type Vehicle } from '../api/client'
import { session } from '../session'
import Trouble from './Trouble.vue'
import { clock, say } from '../words'
import Says from './Says.vue'

const props = defineProps<{ bench: string }>()
const ports = ref<Port[] | null>(null)
const told = ref<{ at: Date; kind: 'came' | 'gone' | 'renamed'; port: Port; was?: string }[]>([])
const trouble = ref<Problem | null>(null)
let timer = 0

// An adapter is told by its USB identity, whatever its port is called.
const key = (p: Port) => (p.serial ? `${p.vendor}:${p.product}:${p.serial}` : p.path)

async function look() {
  const { data, error } = await api.GET('/api/benches/{bench}/ports', { params: { path: { bench: props.bench } } })
  if (error) {
    trouble.value = problem(error)
    return
  }
  trouble.value = null
  const before = ports.value
  ports.value = data.ports
  if (!before) return
  const was = new Map(before.map((p) => [key(p), p]))
  const is = new Set(data.ports.map(key))
  const at = new Date()
  for (const p of data.ports) {
    const old = was.get(key(p))
    if (!old) told.value.unshift({ at, kind: 'came', port: p })
    else if (old.path !== p.path) told.value.unshift({ at, kind: 'renamed', port: p, was: old.path })
  }
  for (const p of before) if (!is.has(key(p))) told.value.unshift({ at, kind: 'gone', port: p })
}
function watch() {
  if (timer) return
  look()
  timer = window.setInterval(() => {
    if (!document.hidden) look()
  }, 1000)
}
onUnmounted(() => clearInterval(timer))

// A port becomes a link, by its adapter where that has a serial: it is then found
// wherever it is plugged in. A name that there is goes there from now on.
const naming = ref('')
const name = ref('')
const rate = ref(0)
const rates = [{ title: 'a serial line', value: 0 }, ...[125, 250, 500, 1000].map((n) => ({ title: say('a CAN bus at {1} kbit/s', n), value: n * 1000 }))]
const good = computed(() => /^[a-z0-9][a-z0-9-]*$/.test(name.value))
async function set(to: { adapter?: string; path?: string; address?: string; gateway?: string; interface?: string }) {
  const { error } = await api.POST('/api/links', { body: { link: `${props.bench}/${name.value}`, ...to, ...(rate.value && !to.gateway && !to.interface && { rate: rate.value }) } })
  trouble.value = error ? problem(error) : null
  if (!error) naming.value = ''
  look()
}
const use = (p: Port) => set(p.serial ? { adapter: p.serial } : { path: p.path })

// Vehicles that announce themselves on the bench's networks.
const vehicles = ref<Vehicle[] | null>(null)
const asking = ref(false)
const asked = ref(false)
async function lookForVehicles() {
  asking.value = true
  const { data, error } = await api.GET('/api/benches/{bench}/ports', { params: { path: { bench: props.bench }, query: { vehicles: true } } })
  asking.value = false
  trouble.value = error ? problem(error) : null
  if (data) {
    vehicles.value = data.vehicles
    asked.value = !!data.asked
  }
}
async function take(v: Vehicle) {
  await set({ gateway: v.address })
  if (!trouble.value) await lookForVehicles()
}

// What is no serial port of the bench: a serial server, a vehicle's gateway, a CAN interface.
const far = ref(false)
const what = ref<'gateway' | 'address' | 'interface'>('gateway')
const whereTo = { gateway: 'HOST or HOST:PORT', address: 'HOST:PORT', interface: 'Its name, such as can0' }
const address = ref('')
async function reach() {
  await set({ [what.value]: address.value })
  if (!trouble.value) far.value = false
}
const icons = { came: mdiPlusCircle, gone: mdiMinusCircle, renamed: mdiSwapHorizontal }
const words = { came: 'came', gone: 'vanished', renamed: 'has another name' }
const usable = computed(() => ports.value?.filter((p) => !p.aside) ?? [])
const aside = computed(() => ports.value?.filter((p) => p.aside) ?? [])
</script>

<template>
  <section class="ports" data-ports>
    <v-btn v-if="!ports" variant="text" color="primary" :prepend-icon="mdiEyeOutline" data-watch @click="watch">Serial ports and adapters</v-btn>
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-if="ports">
      <h2>Serial ports</h2>
      <p class="muted">Pull the adapter out and put it in again: the port that vanishes and comes is its own.</p>
      <ul v-if="told.length" class="told" aria-live="polite"><li v-for="(x, n) in told" :key="told.length - n" :class="{ brick: x.kind === 'gone', teal: x.kind === 'came' }"><v-icon :icon="icons[x.kind]" size="20" /> <span class="mono">{{ x.port.path }}</span> <strong>{{ words[x.kind] }}</strong><template v-if="x.was">, <Says text="was {1}"><template #1><span class="mono">{{ x.was }}</span></template></Says></template><template v-if="x.port.name">, {{ x.port.name }}</template><template v-if="x.port.serial">, {{ say('serial {1}', x.port.serial) }}</template> <span class="muted">{{ clock(x.at) }}</span></li></ul>
      <table v-if="usable.length" class="plain"><thead><tr><th>Port</th><th>Adapter</th><th>Driver</th><th>Held by</th><th>Link</th></tr></thead><tbody>
        <tr v-for="p in usable" :key="p.path"><td class="mono">{{ p.path }}</td><td>{{ p.name || 'not told' }}<div v-if="p.serial" class="small mono">{{ p.serial }}</div></td><td>{{ p.driver || 'not told' }}<div v-if="p.latency" class="small" :class="{ brick: p.latency > 1 }">{{ say('holds bytes back {1} ms', p.latency) }}</div></td><td :class="{ brick: p.held }">{{ p.held || 'nobody' }}</td><td><form v-if="naming === p.path" class="name" @submit.prevent="use(p)"><v-text-field v-model="name" label="Name of the link" density="compact" hide-details autofocus data-link-name /><v-select v-model="rate" :items="rates" label="It carries" density="compact" hide-details data-link-rate /><v-btn type="submit" variant="flat" color="primary" :disabled="!good" data-link-set>Use it</v-btn><v-btn variant="text" @click="naming = ''">Leave it</v-btn></form><v-btn v-else-if="session.may('technician')" variant="text" color="primary" data-link-port @click="((naming = p.path), (name = ''))">Use as a link…</v-btn></td></tr>
      </tbody></table>
      <p v-else>No port that could be used.</p>
      <h2>Vehicles</h2>
      <table v-if="vehicles?.length" class="plain"><thead><tr><th>Vehicle</th><th>Gateway</th><th>Link</th></tr></thead><tbody>
        <tr v-for="v in vehicles" :key="v.address" data-vehicle><td class="mono">{{ v.vin || 'no number set' }}</td><td class="mono">{{ v.address }}</td><td><strong v-if="v.link">{{ v.link }}</strong><form v-else-if="naming === v.address" class="name" @submit.prevent="take(v)"><v-text-field v-model="name" label="Name of the link" density="compact" hide-details autofocus /><v-btn type="submit" variant="flat" color="primary" :disabled="!good">Use it</v-btn><v-btn variant="text" @click="naming = ''">Leave it</v-btn></form><v-btn v-else-if="session.may('technician')" variant="text" color="primary" @click="((naming = v.address), (name = ''), (rate = 0))">Use as a link…</v-btn></td></tr>
      </tbody></table>
      <p v-else-if="vehicles && !asked" class="muted">This bench could not ask for vehicles on its networks: reach one by its address.</p>
      <p v-else-if="vehicles" class="muted">None has announced itself on the bench's networks. See that its ignition is on and the cable in.</p>
      <p><v-btn variant="text" color="primary" :loading="asking" data-vehicles @click="lookForVehicles">{{ vehicles ? 'Look again' : 'Look for vehicles on the network' }}</v-btn></p>
      <p v-if="session.may('technician') && !far"><v-btn variant="text" color="primary" data-link-far @click="((far = true), (name = ''), (rate = 0))">A link that is no serial port…</v-btn></p>
      <form v-if="far" class="far" @submit.prevent="reach">
        <v-select v-model="what" :items="[{ title: 'a vehicle\'s gateway', value: 'gateway' }, { title: 'a serial server', value: 'address' }, { title: 'a CAN interface of the bench', value: 'interface' }]" label="What is there" hide-details />
        <v-text-field v-model="address" :label="whereTo[what]" hide-details data-far-address />
        <v-select v-if="what === 'address'" v-model="rate" :items="rates" label="It carries" hide-details />
        <v-text-field v-model="name" label="Name of the link" hide-details data-far-name />
        <v-btn type="submit" variant="flat" color="primary" :disabled="!good || !address" data-far-set>Use it</v-btn><v-btn variant="text" @click="far = false">Leave it</v-btn>
      </form>
      <p v-if="aside.length" class="small muted"><Says text="Set aside: {1}."><template #1><span v-for="(p, n) in aside" :key="p.path"><template v-if="n">; </template><span class="mono">{{ p.path }}</span>, {{ p.aside }}</span></template></Says></p>
    </template>
  </section>
</template>

<style scoped>
.ports { margin-top: 12px; overflow-x: auto; }
.ports h2 { margin-top: 20px; }
.name { display: flex; gap: 8px; align-items: center; min-width: 320px; }
.name > :deep(.v-input) { min-width: 180px; }
.far { display: flex; flex-wrap: wrap; gap: 12px; align-items: center; margin: 12px 0; }
.far > :deep(.v-input) { flex: 1 1 180px; max-width: 280px; }
.told { list-style: none; margin: 8px 0; display: grid; gap: 6px; }
</style>
