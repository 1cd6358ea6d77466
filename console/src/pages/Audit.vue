<script setup lang="ts">
// What was done about who may what, checked entry by entry.
import { onUnmounted, ref } from 'vue'

import { api, problem, type AuditEntry, type AuditPart, type Problem, type Quotas, type Retention } from '../api/client'
import { audit } from '../api/names'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { say, when } from '../words'

const entries = ref<AuditEntry[]>([])
const before = ref(0)
const cut = ref(0)
const found = ref<{ text: string }[] | null>(null)
const trouble = ref<Problem | null>(null)

async function more() {
  const { data, error } = await api.GET('/api/audit', { params: { query: { before: before.value } } })
  if (error) {
    trouble.value = problem(error)
    return
  }
  entries.value.push(...data.entries)
  before.value = data.before ?? 0
  cut.value = data.cut ?? 0
  found.value = data.found ?? []
}
more()

const kept = ref<Retention | null>(null)
const keeping = ref(false)
const days = ref<Record<string, string>>({})
const heads: Record<string, string> = { photos: 'Photos', traces: 'Traces of lines', log: 'The audit log' }
api.GET('/api/retention').then(({ data }) => { kept.value = data ?? null })
async function keep(what: string) {
  const { data, error } = await api.POST('/api/retention', { body: { [what]: Number(days.value[what]) } })
  trouble.value = error ? problem(error) : null
  if (data) kept.value = data
}

// How much one bench or person may send in a day.
const sending = ref<Quotas | null>(null)
const most = ref<Record<string, string>>({})
const sorts: Record<string, string> = { pieces: 'Memory', events: 'Events of runs', photos: 'Photos', images: 'Firmware files' }
async function open(is: boolean) {
  if (!is || !session.may('lead')) return
  const { data, error } = await api.GET('/api/quotas')
  trouble.value = error ? problem(error) : null
  if (data) sending.value = data
}
async function bound(what: string) {
  const { data, error } = await api.POST('/api/quotas', { body: { [what]: Number(most.value[what]) } })
  trouble.value = error ? problem(error) : null
  if (data) sending.value = data
}

// All histories, held against their tree a part at a time.
const walked = ref<AuditPart | null>(null)
const findings = ref<{ text: string }[]>([])
const walking = ref(false)
let gone = false
onUnmounted(() => { gone = true })

async function all() {
  walking.value = true
  findings.value = []
  walked.value = null
  let walk: AuditPart['walk'] = { next: 0 }
  for (;;) {
    const { data, error } = await api.POST('/api/audit/all', { body: { walk } })
    if (gone) return
    if (error) {
      trouble.value = problem(error)
      break
    }
    walk = data.walk
    walked.value = data
    findings.value.push(...data.findings)
    if (data.done) break
  }
  walking.value = false
}
</script>

<template>
  <div class="page">
    <h1>What was done</h1>
    <p class="lead">Sign-ins, people, tokens, benches, keys, sheets and releases: who may what, and who has settled it.</p>
    <Trouble v-if="trouble" :problem="trouble" />
    <section class="all" data-all>
      <h2>All histories</h2>
      <p>Every entry of every unit is held against the tree of all, its signed checkpoints and what benches have kept of it.</p>
      <v-btn color="primary" :disabled="walking" data-check-all @click="all">Check them all</v-btn>
      <template v-if="walked">
        <v-progress-linear v-if="!walked.done" :model-value="walked.size ? 100 * walked.walk.next / walked.size : 100" :aria-label="say('{1} of {2} entries read', walked.walk.next, walked.size)" />
        <ul v-if="findings.length" class="brick" data-findings><li v-for="f in findings" :key="f.text">{{ f.text }}</li></ul>
        <p v-if="walked.done && findings.length" class="brick" data-checked><strong>{{ say('Not as it was entered: {1} of these in {2} entries.', findings.length, walked.size) }}</strong></p>
        <p v-else-if="walked.done" data-checked>✓ {{ say('{1} entries read: all as they were entered and signed, none missing.', walked.size) }} <span v-if="walked.tree" class="small muted">{{ say('Checkpoint of {1}, root {2}.', when(walked.tree.at), walked.tree.root.slice(0, 16)) }}</span></p>
        <p v-else class="small muted">{{ say('{1} of {2} entries read', walked.walk.next, walked.size) }}</p>
      </template>
    </section>
    <details v-if="kept" class="all" data-kept @toggle="keeping = ($event.target as HTMLDetailsElement).open">
      <summary>How long what is kept</summary>
      <p class="small muted">For a day after one of these is settled nothing of its kind is removed: a number that was mistyped can be taken back.</p>
      <div v-if="keeping" class="kinds">
        <section v-for="k in kept.kept" :key="k.what" :data-keeps="k.what">
          <h3>{{ heads[k.what] }}</h3>
          <p>{{ k.text }} <template v-if="k.by">{{ say('Settled by {1}, {2}.', k.by, when(k.at!)) }}</template></p>
          <form v-if="session.may('lead')" class="row" @submit.prevent="keep(k.what)"><v-text-field v-model="days[k.what]" type="number" min="0" max="36500" :label="k.what === 'photos' ? 'Days; 0: until removed' : 'Days; 0: for good'" hide-details class="days" data-days /><v-btn type="submit" variant="outlined" :disabled="!days[k.what]" data-keep>Settle it</v-btn></form>
        </section>
      </div>
    </details>
    <details v-if="session.may('lead')" class="all" data-quotas @toggle="open(($event.target as HTMLDetailsElement).open)">
      <summary>How much may be sent in a day</summary>
      <p class="small muted">What is beyond it is refused until the next day (UTC), or until more is let in here. A bench keeps it, and sends it then.</p>
      <div v-if="sending" class="kinds four">
        <section v-for="q in sending.quotas" :key="q.what" :data-quota="q.what">
          <h3>{{ sorts[q.what] }}</h3>
          <div>
            <p>{{ q.text }} <template v-if="q.by">{{ say('Settled by {1}, {2}.', q.by, when(q.at!)) }}</template></p>
            <p class="small muted">Sent today:</p>
            <ul class="sent">
              <li v-for="x in sending.sent.filter((s) => s.what === q.what)" :key="x.who" :class="{ brick: x.reached }">{{ x.text }} <template v-if="x.reached">More was refused.</template></li>
              <li v-if="!sending.sent.some((s) => s.what === q.what)" class="muted">nothing</li>
            </ul>
          </div>
          <form class="row" @submit.prevent="bound(q.what)"><v-text-field v-model="most[q.what]" type="number" min="0" :max="q.what === 'events' ? 1000000000 : 100000000" :label="q.what === 'events' ? 'Events; 0: no bound' : 'MiB; 0: no bound'" hide-details class="days" data-most /><v-btn type="submit" variant="outlined" :disabled="!most[q.what]" data-bound>Settle it</v-btn></form>
        </section>
      </div>
    </details>
    <h2>Who may what</h2>
    <p v-if="found" :class="found.length ? 'brick' : 'small muted'" data-chain><strong v-if="found.length">{{ say('Changed since it was entered: {1}', found.map((f) => f.text).join('; ')) }}</strong><template v-else>Checked: all of it is as it was entered and signed.</template></p>
    <table class="plain stack">
      <thead><tr><th>When</th><th>What</th><th>By</th><th /></tr></thead>
      <tbody>
        <tr v-for="e in entries" :key="e.n"><td class="at">{{ when(e.at) }}</td><td class="at"><strong :class="{ brick: e.kind === 'sign-in-failed' }">{{ audit[e.kind] ?? e.kind }}</strong></td><td>{{ e.by || 'nobody signed in' }}</td><td class="text">{{ e.text }}</td></tr>
      </tbody>
    </table>
    <p v-if="cut" class="small muted" data-cut>{{ say('Entries 1 to {1} were let go, as the team has settled, but those that say so. Their hashes stand in the chain and in the tree.', cut) }}</p>
    <v-btn v-if="before" variant="outlined" class="more" data-more @click="more">Older ones</v-btn>
  </div>
</template>

<style scoped>
.text { overflow-wrap: anywhere; }
.days { max-width: 200px; }
.kinds { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(320px, 100%), 1fr)); gap: 24px; }
.kinds section { display: grid; grid-template-rows: auto 1fr auto; gap: 8px; }
.sent { list-style: none; padding: 0; margin: 0; }
.four { grid-template-columns: repeat(auto-fit, minmax(min(260px, 100%), 1fr)); }
summary { min-height: 44px; display: flex; align-items: center; cursor: pointer; color: rgb(var(--v-theme-primary)); font-weight: 600; }
summary::before { content: '▸'; margin-right: 8px; }
details[open] > summary::before { content: '▾'; }
.at { white-space: nowrap; }
.more { margin-top: 12px; }
.all { margin: 16px 0 24px; }
.all > * + * { margin-top: 8px; }
</style>
