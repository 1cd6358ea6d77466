<script setup lang="ts">
// A machine asks to be signed in as whoever is here (RFC 8628): he types the code that it shows.
import { ref } from 'vue'

import { api, problem, type Problem, type Waiting } from '../api/client'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { say, when } from '../words'

const code = ref('')
const machine = ref<Waiting | null>(null)
const scope = ref<'read' | 'work' | 'whole'>('whole')
const days = ref(30)
const said = ref('')
const trouble = ref<Problem | null>(null)
const scopes = [{ title: 'look', value: 'read' }, { title: 'do what a technician does', value: 'work' }, { title: 'do all that I may', value: 'whole' }]

async function find() {
  said.value = ''
  trouble.value = null
  const { data, error } = await api.GET('/api/machines/{code}', { params: { path: { code: code.value.trim() } } })
  machine.value = data ?? null
  if (error) trouble.value = problem(error)
}
async function decide(give: boolean) {
  const { error } = await api.POST('/api/machines/{code}', { params: { path: { code: machine.value!.code } }, body: { give, ...(give && { scope: scope.value, days: Number(days.value) }) } })
  if (error) trouble.value = problem(error)
  else said.value = give ? say('{1} is signed in as {2}. On the page Team it can be ended at any time.', machine.value!.machine, session.person?.name) : say('{1} was refused.', machine.value!.machine)
  machine.value = null
  code.value = ''
}
</script>

<template>
  <div class="page narrow">
    <h1>Let a machine in</h1>
    <p class="lead"><span class="mono">ferry sign-in</span> shows a code on the machine where you typed it. Only a code that you have asked for yourself: whoever gave you another would be signed in as you.</p>
    <Trouble v-if="trouble" :problem="trouble" />
    <p v-if="said" class="teal" data-said><strong>{{ said }}</strong></p>
    <form v-if="!machine" class="row" @submit.prevent="find"><v-text-field v-model="code" label="Code" class="code" autocapitalize="characters" autocomplete="off" data-code /><v-btn type="submit" color="primary" :disabled="code.trim().length < 8" data-find>Who is it?</v-btn></form>
    <div v-else class="who">
      <p class="big">{{ machine.machine }}</p>
      <p><Says text="asked {1}, with the code {2}. Is that the machine in front of you?" :put="{ 1: when(machine.asked) }"><template #2><strong class="mono">{{ machine.code }}</strong></template></Says></p>
      <div class="row"><v-select v-model="scope" :items="scopes" label="As me it may" hide-details /><v-text-field v-model="days" type="number" min="1" max="365" label="For so many days" hide-details /></div>
      <div class="row"><v-btn color="primary" data-let @click="decide(true)">It is: let it in</v-btn><v-btn variant="outlined" color="error" data-refuse @click="decide(false)">It is not</v-btn></div>
    </div>
  </div>
</template>

<style scoped>
.narrow { max-width: 720px; display: grid; gap: 16px; }
.code :deep(input) { font-family: var(--mono, monospace); font-size: 22px; letter-spacing: 2px; text-transform: uppercase; }
.who { display: grid; gap: 12px; border: 2px solid var(--ink); border-radius: 8px; padding: 16px; background: rgb(var(--v-theme-surface)); }
.big { font-size: 22px; font-weight: 700; }
</style>
