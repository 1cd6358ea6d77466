<script setup lang="ts">
// What the register says of a unit, and its correction.
import { mdiPencilOutline } from '@mdi/js'
import { reactive, ref } from 'vue'

import { api, problem, type Problem, type Unit } from '../api/client'
import Trouble from './Trouble.vue'

const props = defineProps<{ unit: Unit }>()
const emit = defineEmits<{ corrected: [] }>()
const open = ref(false)
const busy = ref(false)
const trouble = ref<Problem | null>(null)
const to = reactive({ site: '', customer: '', note: '', reason: '' })

function begin() {
  Object.assign(to, { site: props.unit.site, customer: props.unit.customer ?? '', note: props.unit.note ?? '', reason: '' })
  trouble.value = null
  open.value = true
}

async function put() {
  busy.value = true
  trouble.value = null
  try {
    const { error } = await api.POST('/api/units/{unit}/correct', { params: { path: { unit: props.unit.id } }, body: { ...to } })
    if (error) throw error
    open.value = false
    emit('corrected')
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}
</script>

<template>
  <v-btn variant="text" size="small" :prepend-icon="mdiPencilOutline" data-correct @click="begin">Correct</v-btn>
  <v-dialog v-model="open" max-width="640">
    <v-card class="dialog">
      <h2>Correct the register</h2>
      <p class="muted">The history keeps what it said before, with your name.</p>
      <v-text-field v-model="to.site" label="Site" data-field="site" />
      <v-text-field v-model="to.customer" label="Customer" data-field="customer" />
      <v-textarea v-model="to.note" variant="outlined" label="Note: how to get in, whom to ask" rows="2" data-field="note" />
      <v-text-field v-model="to.reason" label="Why" data-field="reason" />
      <Trouble v-if="trouble" :problem="trouble" />
      <div class="row end"><v-btn variant="text" @click="open = false">Close</v-btn><v-btn color="primary" :loading="busy" data-put @click="put">Correct it</v-btn></div>
    </v-card>
  </v-dialog>
</template>
