<script setup lang="ts">
// Identifying with help: the model is named, the label is read, or the power is applied
// while the tool calls.
import { mdiPowerPlugOutline } from '@mdi/js'
import { reactive, ref } from 'vue'

import { api, problem, type Identity, type Problem } from '../api/client'
import { allModels } from '../lists'
import AskedNow from './AskedNow.vue'
import Says from './Says.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ at: string }>()
const emit = defineEmits<{ identified: [identity: Identity, label: string] }>()
const open = ref(false)
const calling = ref(false)
const trouble = ref<Problem | null>(null)
const models = ref<{ title: string; value: string }[]>([])
const to = reactive({ model: '', label: '', await: false })

async function begin() {
  Object.assign(to, { model: '', label: '', await: false })
  trouble.value = null
  open.value = true
  if (!models.value.length) models.value = (await allModels()).map((m) => ({ title: m.name, value: m.model }))
}

async function ask() {
  calling.value = true
  trouble.value = null
  try {
    const { data, error } = await api.POST('/api/identify', { body: { at: props.at, ...(to.model && { model: to.model }), ...(to.label.trim() && { label: to.label.trim() }), ...(to.await && { await: true }) } })
    if (error) throw error
    open.value = false
    emit('identified', data, to.label.trim())
  } catch (e) {
    trouble.value = problem(e)
  }
  calling.value = false
}
</script>

<template>
  <v-btn variant="text" color="primary" data-identify-with @click="begin">Identify with help…</v-btn>
  <v-dialog v-model="open" max-width="640" :persistent="calling">
    <v-card class="dialog">
      <h2><Says text="Identify what is on {1}"><template #1><span class="mono">{{ at }}</span></template></Says></h2>
      <div v-if="calling && to.await" class="now" role="status" data-now><v-icon :icon="mdiPowerPlugOutline" size="32" /><div><strong>Ready. Switch the unit on now.</strong><br />If it has power: take the power off, and apply it again. The tool calls until it answers.</div></div>
      <template v-else>
        <p class="muted">For a unit that waits for its power, tells no serial, or can only be told by eye.</p>
        <v-select v-model="to.model" :items="[{ title: 'Found out by asking', value: '' }, ...models]" label="Model" data-field="model" />
        <v-text-field v-model="to.label" label="Serial on its label" data-field="label" />
        <v-checkbox v-model="to.await" label="It opens its loader only when it is switched on" hide-details data-field="await" />
      </template>
      <AskedNow v-if="calling" :at="at" />
      <Trouble v-if="trouble" :problem="trouble" />
      <div class="row end"><v-btn variant="text" :disabled="calling" @click="open = false">Close</v-btn><v-btn color="primary" size="large" :loading="calling" data-ask @click="ask">{{ to.await ? 'Call it' : 'Ask it' }}</v-btn></div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.now { display: flex; gap: 16px; align-items: center; padding: 20px; font-size: 20px; border-radius: 6px; background: rgb(var(--v-theme-hands-on)); color: rgb(var(--v-theme-on-hands-on)); }
</style>
