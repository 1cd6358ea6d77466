<script setup lang="ts">
// What is known of complaints about a model, and what its fault codes mean; a lead enters
// both.
import { ref } from 'vue'

import { api, problem, type Bulletin, type Problem } from '../api/client'
import { allBulletins } from '../lists'
import { session } from '../session'
import { listed, say, sayOf, when } from '../words'
import Trouble from './Trouble.vue'

const props = defineProps<{ model: string; fact: string; values: string[] }>()
const all = ref<Bulletin[]>([])
const wrong = ref<Problem | null>(null)
const said = ref('')
const entering = ref(false)
const ending = ref(0)
const why = ref('')
const title = ref('')
const says = ref('')
const codes = ref('')
const words = ref('')
const of = ref<string[]>([])
const below = ref('')

async function load() {
  try {
    all.value = await allBulletins(props.model)
  } catch (e) {
    wrong.value = problem(e)
  }
}
load()

const parts = (s: string) => s.split(',').map((x) => x.trim()).filter(Boolean)

async function add() {
  wrong.value = null
  const when = [...(of.value.length ? [{ fact: props.fact, oneOf: of.value }] : []), ...(below.value.trim() ? [{ fact: 'running', below: below.value.trim() }] : [])]
  const { error } = await api.POST('/api/bulletins', { body: { model: props.model, title: title.value, says: says.value, when, codes: parts(codes.value), words: parts(words.value) } })
  if (error) {
    wrong.value = problem(error)
    return
  }
  title.value = says.value = codes.value = words.value = below.value = ''
  of.value = []
  entering.value = false
  await load()
}

async function end(number: number) {
  wrong.value = null
  const { error } = await api.POST('/api/bulletins/{bulletin}/end', { params: { path: { bulletin: number } }, body: { reason: why.value } })
  if (error) {
    wrong.value = problem(error)
    return
  }
  why.value = ''
  ending.value = 0
  await load()
}

async function texts(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (!file) return
  wrong.value = null
  said.value = ''
  const { data, error } = await api.POST('/api/models/{model}/codes', { params: { path: { model: props.model } }, body: (await file.text()) as never, bodySerializer: (b) => b as never, headers: { 'Content-Type': 'text/csv' } })
  if (error) wrong.value = problem(error)
  else said.value = sayOf('{1} text stands, {2} taken away.', '{1} texts stand, {2} taken away.', data.put, data.taken)
}
</script>

<template>
  <section data-bulletins>
    <h2>Bulletins</h2>
    <p v-if="!all.length" class="muted">Nothing is known of complaints about this model.</p>
    <ul class="rows">
      <li v-for="b in all" :key="b.number">
        <strong>{{ b.number }}. {{ b.title }}</strong>
        <div>{{ b.says }}</div>
        <div class="small muted">{{ listed(b.for ? say('for {1}', b.for) : 'for every unit', b.codes.length + b.words.length && say('shows by {1}', [...b.codes, ...b.words].join(', ')), b.by, when(b.at)) }}</div>
        <template v-if="session.may('lead')">
          <form v-if="ending === b.number" class="row" @submit.prevent="end(b.number)"><v-text-field v-model="why" label="Why nobody is told of it any more" hide-details density="compact" data-why /><v-btn type="submit" variant="outlined" :disabled="why.trim().length < 3" data-end-yes>End it</v-btn><v-btn variant="text" @click="ending = 0">Leave it</v-btn></form>
          <v-btn v-else variant="text" size="small" :data-end="b.number" @click="ending = b.number">End it…</v-btn>
        </template>
      </li>
    </ul>
    <Trouble v-if="wrong" :problem="wrong" />
    <template v-if="session.may('lead')">
      <form v-if="entering" class="enter" @submit.prevent="add">
        <v-text-field v-model="title" label="The complaint, in a few words" data-title />
        <v-textarea v-model="says" label="What it is and what mends it" rows="2" data-says />
        <v-text-field v-model="codes" label="Fault codes by which it shows" hint="C1A10-12, or C1A10 for any failure type; a comma between" persistent-hint data-codes />
        <v-text-field v-model="words" label="What is said of a unit that has it" hint="drops, sinks under load: in the reason of a job" persistent-hint data-words />
        <div class="row"><v-select v-if="values.length" v-model="of" :items="values" multiple :label="say('Only {1}', fact)" /><v-text-field v-model="below" label="Only versions below" data-below /></div>
        <div class="row"><v-btn type="submit" variant="flat" color="primary" :disabled="title.trim().length < 3 || says.trim().length < 3" data-enter-yes>Enter it</v-btn><v-btn variant="text" @click="entering = false">Leave it</v-btn></div>
      </form>
      <v-btn v-else variant="outlined" data-enter @click="entering = true">Enter a bulletin…</v-btn>
      <label class="file gap">What its fault codes mean, as CSV with the columns code and says <input type="file" accept=".csv,text/csv" data-code-texts @change="texts" /></label>
      <p v-if="said" role="status" class="small">{{ said }}</p>
    </template>
  </section>
</template>

<style scoped>
.enter { display: grid; gap: 10px; margin: 12px 0; }
.file { display: grid; gap: 4px; font-size: 14px; }
.gap { margin-top: 16px; }
</style>
