<script setup lang="ts">
// The answer to a finishing test that an earlier run left open: passed, not passed, or
// somebody who is named answers it.
import { reactive, ref } from 'vue'

import { api, problem, type OpenTest, type Problem } from '../api/client'
import { listed, say } from '../words'
import Trouble from './Trouble.vue'

const props = defineProps<{ test: OpenTest }>()
const emit = defineEmits<{ answered: [] }>()
const open = ref(false)
const busy = ref(false)
const trouble = ref<Problem | null>(null)
const to = reactive({ note: '', whose: '', due: '' })

async function put(value: 'yes' | 'no' | 'elsewhere') {
  busy.value = true
  trouble.value = null
  try {
    const { error } = await api.POST('/api/units/{unit}/tests', { params: { path: { unit: props.test.unit } }, body: { item: props.test.item, value, note: to.note, ...(value === 'elsewhere' && { whose: to.whose, due: to.due }) } })
    if (error) throw error
    open.value = false
    emit('answered')
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}
</script>

<template>
  <v-btn variant="outlined" data-test @click="open = true">Answer it</v-btn>
  <v-dialog v-model="open" max-width="640">
    <v-card class="dialog">
      <h2>{{ test.says }}</h2>
      <p class="muted">{{ say('{1}. The answer stands in its history, with your name.', listed(test.serial, test.site)) }}</p>
      <v-text-field v-model="to.note" label="What was seen; wanted where it was not passed" data-field="note" />
      <div class="row">
        <v-btn color="secondary" size="large" :loading="busy" data-passed @click="put('yes')">Passed</v-btn>
        <v-btn variant="outlined" size="large" :disabled="to.note.trim().length < 3" :loading="busy" data-failed @click="put('no')">Not passed</v-btn>
      </div>
      <h3>Not possible here?</h3>
      <div class="row two">
        <v-text-field v-model="to.whose" label="Who answers it" data-field="whose" />
        <v-text-field v-model="to.due" type="date" label="Until" data-field="due" />
        <v-btn variant="outlined" size="large" :disabled="to.whose.trim().length < 2 || !to.due" :loading="busy" data-elsewhere @click="put('elsewhere')">Hand it on</v-btn>
      </div>
      <Trouble v-if="trouble" :problem="trouble" />
      <div class="row end"><v-btn variant="text" @click="open = false">Close</v-btn></div>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.two > :deep(.v-input) { flex: 1; min-width: 180px; }
</style>
