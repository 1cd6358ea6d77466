<script setup lang="ts">
// A one-use code with which a machine joins as a bench.
import { mdiLaptop } from '@mdi/js'
import { ref } from 'vue'

import { api, problem, type Problem } from '../api/client'
import { say, when } from '../words'
import Trouble from './Trouble.vue'

const open = ref(false)
const code = ref('')
const expires = ref('')
const trouble = ref<Problem | null>(null)
const here = window.location.origin

async function make() {
  trouble.value = null
  code.value = ''
  open.value = true
  try {
    const { data, error } = await api.POST('/api/benches/codes')
    if (error) throw error
    code.value = data.code
    expires.value = data.expires
  } catch (e) {
    trouble.value = problem(e)
  }
}
</script>

<template>
  <v-btn variant="outlined" :prepend-icon="mdiLaptop" data-enrol @click="make">Enrol a bench</v-btn>
  <v-dialog v-model="open" max-width="720">
    <v-card class="dialog">
      <h2>A code for one machine</h2>
      <p>Type this on the machine that has the links; it names itself and makes a key of its own, which stays there.</p>
      <pre v-if="code" class="mono code" data-code>ferry bench enrol --service {{ here }} --code {{ code }} --name NAME --dir FOLDER</pre>
      <p v-if="expires" class="small muted">{{ say('Good once, until {1}.', when(expires)) }}</p>
      <Trouble v-if="trouble" :problem="trouble" />
      <div class="row end"><v-btn variant="text" @click="open = false">Close</v-btn></div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.code { white-space: pre-wrap; overflow-wrap: anywhere; padding: 12px; border: 1px solid var(--line); border-radius: 4px; }
</style>
