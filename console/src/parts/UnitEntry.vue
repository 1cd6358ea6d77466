<script setup lang="ts">
// A unit that was entered twice, or by mistake.
import { ref } from 'vue'

import { api, problem, type Problem, type UnitPage } from '../api/client'
import { session } from '../session'
import { say } from '../words'
import Trouble from './Trouble.vue'

const props = defineProps<{ unit: UnitPage }>()
const emit = defineEmits<{ joined: [id: string]; changed: [] }>()
const open = ref(false)
const busy = ref(false)
const into = ref('')
const reason = ref('')
const trouble = ref<Problem | null>(null)

async function put(what: 'join' | 'mistake') {
  busy.value = true
  trouble.value = null
  const path = { params: { path: { unit: props.unit.id } } }
  try {
    if (what === 'join') {
      const { data, error } = await api.POST('/api/units/{unit}/join', { ...path, body: { into: into.value.trim(), reason: reason.value } })
      if (error) throw error
      emit('joined', data.id)
    } else {
      const { error } = await api.POST('/api/units/{unit}/mistake', { ...path, body: { reason: reason.value } })
      if (error) throw error
      emit('changed')
    }
    open.value = false
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}
</script>

<template>
  <v-btn variant="text" size="small" data-wrong-entry @click="open = true">Entered wrongly?</v-btn>
  <v-dialog v-model="open" max-width="640">
    <v-card class="dialog">
      <h2>{{ say('{1} is no unit of its own', unit.serial) }}</h2>
      <v-text-field v-model="reason" label="Why; it stands in the history" data-field="reason" />
      <template v-if="session.may('lead')">
        <h3>It was entered twice</h3>
        <div class="row"><v-text-field v-model="into" label="Serial of the unit that it is" data-field="into" /><v-btn variant="outlined" size="large" :disabled="!into.trim() || reason.trim().length < 3" :loading="busy" data-join @click="put('join')">They are one</v-btn></div>
      </template>
      <h3>It was never there</h3>
      <div class="row"><v-btn variant="outlined" size="large" :disabled="reason.trim().length < 3" :loading="busy" data-mistake @click="put('mistake')">It was a mistake</v-btn><span class="small muted">It leaves the lists and keeps its history.</span></div>
      <Trouble v-if="trouble" :problem="trouble" />
      <div class="row end"><v-btn variant="text" @click="open = false">Close</v-btn></div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.row > :deep(.v-input) { flex: 1; min-width: 200px; }
</style>
