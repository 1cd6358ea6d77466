<script setup lang="ts">
// What was done about who may what, checked entry by entry.
import { ref } from 'vue'

import { api, problem, type AuditEntry, type Problem } from '../api/client'
import { audit } from '../api/names'
import Trouble from '../parts/Trouble.vue'
import { when } from '../words'

const entries = ref<AuditEntry[]>([])
const before = ref(0)
const found = ref<string[] | null>(null)
const trouble = ref<Problem | null>(null)

async function more() {
  const { data, error } = await api.GET('/api/audit', { params: { query: { before: before.value } } })
  if (error) {
    trouble.value = problem(error)
    return
  }
  entries.value.push(...data.entries)
  before.value = data.before ?? 0
  found.value = data.found ?? []
}
more()
</script>

<template>
  <div class="page">
    <h1>What was done</h1>
    <p class="lead">Sign-ins, people, tokens, benches, keys, sheets and releases: who may what, and who has settled it.</p>
    <Trouble v-if="trouble" :problem="trouble" />
    <p v-if="found" :class="found.length ? 'brick' : 'small muted'" data-chain><strong v-if="found.length">Changed since it was entered: {{ found.join('; ') }}</strong><template v-else>Checked: all of it is as it was entered and signed.</template></p>
    <table class="plain stack">
      <thead><tr><th>When</th><th>What</th><th>By</th><th /></tr></thead>
      <tbody>
        <tr v-for="e in entries" :key="e.n"><td class="at">{{ when(e.at) }}</td><td class="at"><strong :class="{ brick: e.kind === 'sign-in-failed' }">{{ audit[e.kind] ?? e.kind }}</strong></td><td>{{ e.by || 'nobody signed in' }}</td><td class="text">{{ e.text }}</td></tr>
      </tbody>
    </table>
    <v-btn v-if="before" variant="outlined" class="more" data-more @click="more">Older ones</v-btn>
  </div>
</template>

<style scoped>
.text { overflow-wrap: anywhere; }
.at { white-space: nowrap; }
.more { margin-top: 12px; }
</style>
