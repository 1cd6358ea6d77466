<script setup lang="ts">
import { mdiCheckDecagram, mdiCloseCircle } from '@mdi/js'
import { ref } from 'vue'

import { api, problem, type Key, type Problem, type Seconds } from '../api/client'
import { allKeys } from '../lists'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { day, say } from '../words'

const keys = ref<Key[] | null>(null)
const trouble = ref<Problem | null>(null)
const name = ref('')
const text = ref('')
const until = ref('')
const revoking = ref<Key | null>(null)
const reason = ref('')

async function load() {
  try {
    keys.value = await allKeys()
  } catch (e) {
    trouble.value = problem(e)
  }
}
load()
const rule = ref<Seconds | null>(null)
api.GET('/api/seconds').then(({ data }) => { rule.value = data ?? null })
const rules = [{ value: 'auto', title: 'if there is more than one' }, { value: 'on', title: 'always' }, { value: 'off', title: 'never: one alone may' }]
async function add() {
  trouble.value = null
  const { error } = await api.POST('/api/keys', { body: { name: name.value, public: text.value.trim(), ...(until.value && { until: `${until.value}T23:59:59Z` }) } })
  if (error) trouble.value = problem(error)
  else {
    name.value = text.value = until.value = ''
    load()
  }
}
// A second lead trusts what the first has put in the list.
async function trustToo(k: Key) {
  trouble.value = null
  const { error } = await api.POST('/api/keys', { body: { name: k.name, public: k.public } })
  if (error) trouble.value = problem(error)
  load()
}
async function settle(to: string) {
  const { data, error } = await api.POST('/api/seconds/rule', { body: { rule: to as 'auto', about: 'trust' } })
  if (data) rule.value = data
  else trouble.value = problem(error)
}
async function revoke() {
  const { error } = await api.POST('/api/keys/{key}/revoke', { params: { path: { key: revoking.value!.id } }, body: { reason: reason.value } })
  revoking.value = null
  reason.value = ''
  if (error) trouble.value = problem(error)
  load()
}
const words: Record<string, string> = { trusted: 'counts', 'not-yet': 'does not count yet', over: 'over', revoked: 'revoked', waits: 'waits for a second lead' }
</script>

<template>
  <div class="page">
    <h1>Keys whose signatures count</h1>
    <p class="lead">A release is offered when one of these keys has signed it, or a lead has accepted it by name. Private keys are never here: <span class="mono">ferry key make</span> makes one in a locked file.</p>
    <Trouble v-if="trouble" :problem="trouble" />
    <table class="plain stack gap">
      <thead><tr><th>Name</th><th>Key</th><th>State</th><th>From</th><th>Until</th><th>Trusted by</th><th /></tr></thead>
      <tbody>
        <tr v-for="k in keys" :key="k.id">
          <td><strong>{{ k.name }}</strong></td><td class="mono">{{ k.id }}</td>
          <td><v-icon :icon="k.state === 'trusted' ? mdiCheckDecagram : mdiCloseCircle" :class="k.state === 'trusted' ? 'teal' : 'brick'" size="20" /> {{ words[k.state] }}<div v-if="k.reason" class="small">{{ k.reason }}</div></td>
          <td>{{ day(k.from) }}</td><td>{{ k.until ? day(k.until) : 'no end' }}</td><td>{{ [k.by, k.second].filter(Boolean).join(', ') }}</td>
          <td><v-btn v-if="session.may('lead') && k.state === 'waits' && k.by !== session.person?.name" variant="outlined" data-trust-too @click="trustToo(k)">I trust it too</v-btn><v-btn v-if="session.may('lead') && k.state !== 'revoked'" variant="text" color="error" @click="revoking = k">Revoke…</v-btn></td>
        </tr>
      </tbody>
    </table>
    <p v-if="keys && !keys.length" class="muted gap">None yet. Until then every release needs a lead's word.</p>
    <form v-if="session.may('lead')" class="add" @submit.prevent="add">
      <h2>Trust a key</h2>
      <v-text-field v-model="name" label="Whose key it is" />
      <v-text-field v-model="text" label="Public key, base64, as ferry key make prints it" class="mono" />
      <v-text-field v-model="until" type="date" label="Until (may be empty)" />
      <v-btn type="submit" color="primary" :disabled="!name || !text">What it signs counts here</v-btn>
    </form>
    <p v-else class="small muted gap">A lead decides which keys count.</p>
    <template v-if="rule">
      <p class="small muted gap" data-trust-rule>{{ rule.trust ? 'What is to be trusted (keys, a lead’s word for images, sheets in force) wants two leads.' : 'What is to be trusted (keys, a lead’s word for images, sheets in force) wants one lead.' }} <strong v-if="rule.trustWaits.text" data-rule-waits>{{ rule.trustWaits.text }}</strong></p>
      <v-select v-if="session.may('lead')" :model-value="rule.trustRule" :items="rules" label="Two leads" class="pick" hide-details data-trust-pick @update:model-value="settle" />
    </template>
    <v-dialog :model-value="!!revoking" max-width="520" @update:model-value="revoking = null">
      <v-card class="ask"><h2>{{ say('Revoke {1}?', revoking?.name) }}</h2><p>Nothing that it has signed counts any more, whenever it was signed. Those releases need somebody else's word.</p><v-text-field v-model="reason" label="Why" autofocus /><div class="row"><v-btn color="error" :disabled="reason.length < 3" @click="revoke">Revoke it</v-btn><v-btn variant="text" @click="revoking = null">Leave it</v-btn></div></v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.gap { margin-top: 16px; }
.add { display: grid; gap: 12px; max-width: 560px; margin-top: 24px; }
.pick { max-width: 360px; margin-top: 8px; }
.ask { padding: 24px; display: grid; gap: 14px; }
</style>
