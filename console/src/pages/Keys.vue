<script setup lang="ts">
import { mdiCheckDecagram, mdiCloseCircle } from '@mdi/js'
import { ref } from 'vue'

import { api, problem, type Key, type Problem } from '../api/client'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { day } from '../words'

const keys = ref<Key[] | null>(null)
const trouble = ref<Problem | null>(null)
const name = ref('')
const text = ref('')
const until = ref('')
const revoking = ref<Key | null>(null)
const reason = ref('')

async function load() {
  const { data, error } = await api.GET('/api/keys')
  if (error) trouble.value = problem(error)
  else keys.value = data.keys
}
load()
async function add() {
  trouble.value = null
  const { error } = await api.POST('/api/keys', { body: { name: name.value, public: text.value.trim(), ...(until.value && { until: `${until.value}T23:59:59Z` }) } })
  if (error) trouble.value = problem(error)
  else {
    name.value = text.value = until.value = ''
    load()
  }
}
async function revoke() {
  const { error } = await api.POST('/api/keys/{key}/revoke', { params: { path: { key: revoking.value!.id } }, body: { reason: reason.value } })
  revoking.value = null
  reason.value = ''
  if (error) trouble.value = problem(error)
  load()
}
const words: Record<string, string> = { trusted: 'counts', 'not-yet': 'does not count yet', over: 'over', revoked: 'revoked' }
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
          <td>{{ day(k.from) }}</td><td>{{ k.until ? day(k.until) : 'no end' }}</td><td>{{ k.by }}</td>
          <td><v-btn v-if="session.may('lead') && k.state !== 'revoked'" variant="text" color="error" @click="revoking = k">Revoke…</v-btn></td>
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
    <v-dialog :model-value="!!revoking" max-width="520" @update:model-value="revoking = null">
      <v-card class="ask"><h2>Revoke {{ revoking?.name }}?</h2><p>Nothing that it has signed counts any more, whenever it was signed. Those releases need somebody else's word.</p><v-text-field v-model="reason" label="Why" autofocus /><div class="row"><v-btn color="error" :disabled="reason.length < 3" @click="revoke">Revoke it</v-btn><v-btn variant="text" @click="revoking = null">Leave it</v-btn></div></v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.gap { margin-top: 16px; }
.add { display: grid; gap: 12px; max-width: 560px; margin-top: 24px; }
.ask { padding: 24px; display: grid; gap: 14px; }
</style>
