<script setup lang="ts">
// Units that nobody has seen on a wire yet: one by one, or a list out of a table.
import { mdiCheckCircle, mdiCloseCircle, mdiFileUploadOutline, mdiMinusCircleOutline, mdiPlus } from '@mdi/js'
import { reactive, ref } from 'vue'

import { api, problem, type Problem, type Report } from '../api/client'
import { say } from '../words'
import Trouble from './Trouble.vue'

defineProps<{ models: { title: string; value: string }[] }>()
const emit = defineEmits<{ entered: [] }>()

const open = ref(false)
const many = ref(false)
const busy = ref(false)
const trouble = ref<Problem | null>(null)
const said = ref('')
const made = ref('')
const report = ref<Report | null>(null)
const unit = reactive({ model: undefined as string | undefined, serial: '', site: '', customer: '', note: '' })

function begin(list: boolean) {
  many.value = list
  trouble.value = null
  report.value = null
  said.value = ''
  open.value = true
}

async function enter() {
  busy.value = true
  trouble.value = null
  said.value = ''
  try {
    const { data, error } = await api.POST('/api/units', { body: { ...unit, model: unit.model! } })
    if (error) throw error
    said.value = data.fresh ? say('{1} {2} is in the register.', data.modelName, data.serial) : say('{1} {2} is in the register already and stays as it was.', data.modelName, data.serial)
    made.value = data.id
    unit.serial = ''
    emit('entered')
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}

async function send(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (!file) return
  busy.value = true
  trouble.value = null
  report.value = null
  try {
    const { data, error } = await api.POST('/api/units/list', { body: (await file.text()) as never, bodySerializer: (b) => b as never, headers: { 'Content-Type': 'text/csv' } })
    if (error) throw error
    report.value = data
    emit('entered')
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}
const icons = { entered: mdiCheckCircle, known: mdiMinusCircleOutline, refused: mdiCloseCircle }
</script>

<template>
  <div class="row">
    <v-btn variant="outlined" :prepend-icon="mdiPlus" data-enter @click="begin(false)">Enter a unit</v-btn>
    <v-btn variant="outlined" :prepend-icon="mdiFileUploadOutline" data-list @click="begin(true)">Many from a file</v-btn>
  </div>
  <v-dialog v-model="open" max-width="720">
    <v-card class="dialog">
      <h2>{{ many ? 'Enter many units' : 'Enter a unit' }}</h2>
      <template v-if="!many">
        <p class="muted">Before anybody has seen it on a wire: its card and what fits can be looked at then.</p>
        <v-select v-model="unit.model" :items="models.filter((m) => m.value)" label="Model" data-field="model" />
        <v-text-field v-model="unit.serial" label="Serial, from the label or the telephone" class="mono" data-field="serial" />
        <v-text-field v-model="unit.site" label="Site" data-field="site" />
        <v-text-field v-model="unit.customer" label="Customer" data-field="customer" />
        <v-textarea v-model="unit.note" variant="outlined" label="Note: how to get in, whom to ask" rows="2" data-field="note" />
        <p v-if="said" class="teal" role="status"><strong>{{ said }}</strong> <router-link :to="`/units/${made}`">To the unit</router-link></p>
      </template>
      <template v-else>
        <p>A CSV file whose first line names its columns: <span class="mono">model,serial,site,customer,note</span>. Lines that cannot be entered are told, the others are entered.</p>
        <input type="file" accept=".csv,text/csv" aria-label="CSV file" data-csv @change="send" />
        <template v-if="report">
          <p role="status"><strong>{{ say('{1} entered, {2} known already, {3} refused.', report.entered, report.known, report.refused) }}</strong></p>
          <div class="list">
            <table class="plain"><thead><tr><th>Line</th><th></th><th>Model</th><th>Serial</th><th></th></tr></thead><tbody>
              <tr v-for="l in report.lines" :key="l.line"><td class="muted">{{ l.line }}</td><td><v-icon :icon="icons[l.state]" :class="{ teal: l.state === 'entered', brick: l.state === 'refused' }" size="20" /></td><td>{{ l.model }}</td><td class="mono">{{ l.serial }}</td><td class="small">{{ l.text }}</td></tr>
            </tbody></table>
          </div>
        </template>
      </template>
      <Trouble v-if="trouble" :problem="trouble" />
      <div class="row end">
        <v-btn variant="text" @click="open = false">Close</v-btn>
        <v-btn v-if="!many" color="primary" :loading="busy" :disabled="!unit.model || !unit.serial.trim()" data-put @click="enter">Enter it</v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.list { max-height: 320px; overflow: auto; }
</style>
