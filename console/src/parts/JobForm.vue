<script setup lang="ts">
// A job: entered, or changed while it is open.
import { mdiBriefcasePlusOutline, mdiPencilOutline } from '@mdi/js'
import { reactive, ref } from 'vue'

import { api, problem, type Job, type JobPage, type Problem } from '../api/client'
import { say } from '../words'
import Trouble from './Trouble.vue'

const props = defineProps<{ job?: Job; unit?: string; slight?: boolean }>()
const emit = defineEmits<{ put: [job: JobPage] }>()
const open = ref(false)
const busy = ref(false)
const trouble = ref<Problem | null>(null)
const to = reactive({ reason: '', asked: '', test: '', planned: '', person: '', units: '' })

function begin() {
  const j = props.job
  Object.assign(to, { reason: j?.reason ?? '', asked: j?.asked ?? '', test: j?.test ?? '', planned: j?.planned ?? '', person: j?.person ?? '', units: props.unit ?? '' })
  trouble.value = null
  open.value = true
}

async function put() {
  busy.value = true
  trouble.value = null
  const units = to.units.split(/[\s,;]+/).filter(Boolean)
  const body = { reason: to.reason, asked: to.asked, test: to.test, planned: to.planned, person: to.person, units }
  try {
    const { data, error } = props.job ? await api.POST('/api/jobs/{job}', { params: { path: { job: props.job.number } }, body }) : await api.POST('/api/jobs', { body })
    if (error) throw error
    open.value = false
    emit('put', data)
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}
</script>

<template>
  <v-btn :variant="job || slight ? 'text' : 'outlined'" :size="job || slight ? 'small' : undefined" :prepend-icon="job ? mdiPencilOutline : mdiBriefcasePlusOutline" data-job @click="begin">{{ job ? 'Change' : 'Enter a job' }}</v-btn>
  <v-dialog v-model="open" max-width="720">
    <v-card class="dialog">
      <h2>{{ job ? say('Job {1}', job.number) : 'A new job' }}</h2>
      <v-text-field v-model="to.reason" label="Why: a request, a symptom, a condition" data-field="reason" />
      <v-text-field v-model="to.test" label="What counts as done; it is tried at the end of each run" data-field="test" />
      <div class="row two">
        <v-text-field v-model="to.asked" label="Who asked for it" data-field="asked" />
        <v-text-field v-model="to.person" label="Who is to do it" data-field="person" />
        <v-text-field v-model="to.planned" type="date" label="Planned day" data-field="planned" />
      </div>
      <v-textarea v-model="to.units" variant="outlined" rows="2" :label="job ? 'Serials that come into it' : 'Serials, one after the other'" data-field="units" />
      <Trouble v-if="trouble" :problem="trouble" />
      <div class="row end"><v-btn variant="text" @click="open = false">Close</v-btn><v-btn color="primary" :disabled="to.reason.trim().length < 3" :loading="busy" data-put @click="put">{{ job ? 'Change it' : 'Enter it' }}</v-btn></div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.two > * { flex: 1; min-width: 180px; }
</style>
