<script setup lang="ts">
import { ref } from 'vue'

import { api, problem, type ModelPage, type Problem } from '../api/client'
import { session } from '../session'
import { listed, say, when } from '../words'
import Trouble from './Trouble.vue'

defineProps<{ model: string; secrets: NonNullable<ModelPage['secrets']> }>()
const emit = defineEmits<{ changed: [] }>()
const entering = ref('')
const value = ref('')
const wrong = ref<Problem | null>(null)

async function put(model: string, name: string, text: string) {
  wrong.value = null
  const { error } = await api.POST('/api/models/{model}/secrets', { params: { path: { model } }, body: { name, value: text } })
  if (error) {
    wrong.value = problem(error)
    return
  }
  value.value = entering.value = ''
  emit('changed')
}
</script>

<template>
  <div data-secrets>
    <h2>Secrets that its units ask for</h2>
    <ul class="rows">
      <li v-for="s in secrets" :key="s.name">
        <strong class="mono">{{ s.name }}</strong>
        <div v-if="s.by" class="small muted">{{ listed(say('entered by {1}', s.by), when(s.at ?? ''), s.uses ? say('given to a bench {1}×', s.uses) : 'never given to a bench', s.uses && say('last {1}', when(s.last ?? '')), !s.asked && 'the sheet asks for it no longer') }}</div>
        <div v-else class="small">Nobody has entered it: a run of such a unit stops where it is asked for.</div>
        <template v-if="session.may('lead')">
          <form v-if="entering === s.name" class="enter" @submit.prevent="put(model, s.name, value)">
            <v-text-field v-model="value" type="password" autocomplete="off" label="The secret" autofocus />
            <v-btn type="submit" variant="flat" color="primary" :disabled="!value">Keep it</v-btn>
            <v-btn variant="text" @click="entering = ''">Leave it</v-btn>
          </form>
          <div v-else class="row"><v-btn variant="outlined" size="small" @click="entering = s.name">{{ s.by ? 'Enter it anew' : 'Enter it' }}</v-btn><v-btn v-if="s.by" variant="text" size="small" @click="put(model, s.name, '')">Remove it</v-btn></div>
        </template>
      </li>
    </ul>
    <Trouble v-if="wrong" :problem="wrong" />
    <p class="small muted">Kept sealed, given to the bench of an open run alone, never shown again.</p>
  </div>
</template>

<style scoped>
.enter { display: flex; gap: 8px; align-items: center; flex-wrap: wrap; margin-top: 8px; }
.enter > :first-child { min-width: 220px; }
</style>
