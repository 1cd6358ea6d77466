<script setup lang="ts">
// What a unit is set to, as it was read last; a secret value is shown once, and a run of
// nothing but settings is begun here.
import { mdiAlertCircle } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, problem, type Problem, type UnitPage, type UnitSetting } from '../api/client'
import { session } from '../session'
import { say, when } from '../words'
import Trouble from './Trouble.vue'

const props = defineProps<{ unit: UnitPage; blocked: string }>()
const router = useRouter()
const all = ref<UnitSetting[]>([])
const wrong = ref<Problem | null>(null)
const shown = ref<Record<string, string>>({})
const asking = ref('')
const why = ref('')
const setting = ref(false)
const reason = ref('')
const like = ref('')
const wins = ref(false)
const reset = ref(false)
const busy = ref(false)

async function load() {
  const { data } = await api.GET('/api/units/{unit}/settings', { params: { path: { unit: props.unit.id } } })
  if (data) all.value = data.settings
}
watch(() => props.unit.last?.run, load, { immediate: true })
const read = computed(() => all.value[0]?.at)
const key = (s: UnitSetting) => `${s.section} ${s.name}`

async function show(s: UnitSetting) {
  wrong.value = null
  const { data, error } = await api.POST('/api/units/{unit}/settings/show', { params: { path: { unit: props.unit.id } }, body: { section: s.section, name: s.name, ...(why.value && { reason: why.value }) } })
  if (error) wrong.value = problem(error)
  else shown.value[key(s)] = data.value
  asking.value = why.value = ''
  load()
}

async function begin() {
  busy.value = true
  wrong.value = null
  try {
    const { data, error } = await api.POST('/api/runs', { body: { kind: 'settings', at: props.unit.link!, reason: reason.value, ...(like.value && { like: like.value }), ...(reset.value && { reset: true }), profileWins: wins.value } })
    if (error) throw error
    router.push(`/runs/${data.id}`)
  } catch (e) {
    wrong.value = problem(e)
  }
  busy.value = false
}
</script>

<template>
  <div v-if="all.length || unit.sets" data-settings>
    <div class="row spread head"><h2>{{ all.length ? say('Settings, {1}', all.length) : 'Settings' }}</h2><span v-if="read" class="small muted">{{ say('read {1}', when(read)) }}</span></div>
    <p v-if="!all.length" class="muted">Nobody has read them yet. A run that writes it, or sets it up, reads them first.</p>
    <table v-else class="plain">
      <tbody>
        <tr v-for="s in all" :key="key(s)" :data-setting="s.name">
          <td class="muted">{{ s.title }}</td>
          <td>
            <strong :class="{ mono: s.secret }">{{ shown[key(s)] ?? s.value }}</strong>
            <span v-if="s.public" class="small brick public" data-public><v-icon :icon="mdiAlertCircle" size="14" /> public default</span>
            <template v-if="s.secret && session.may('technician') && !shown[key(s)]">
              <v-btn v-if="!s.shows" variant="text" size="small" :data-show="s.name" @click="show(s)">Show it once</v-btn>
              <v-btn v-else-if="session.may('lead') && asking !== s.name" variant="text" size="small" :data-show="s.name" @click="asking = s.name">Show it again…</v-btn>
              <span v-else-if="!session.may('lead')" class="small muted">was shown; a lead may see it again</span>
              <form v-if="asking === s.name" class="row" @submit.prevent="show(s)"><v-text-field v-model="why" label="Why, in the unit’s history under your name" data-why /><v-btn type="submit" variant="outlined" :disabled="why.trim().length < 3">Show it</v-btn></form>
            </template>
            <div v-if="shown[key(s)]" class="small muted">Noted in its history that you have seen it. It is gone when you leave this page.</div>
          </td>
        </tr>
      </tbody>
    </table>
    <Trouble v-if="wrong" :problem="wrong" />
    <template v-if="session.may('technician') && unit.sets && !unit.run">
      <v-btn v-if="!setting" variant="outlined" class="begin" :disabled="!!blocked" :title="blocked" data-set-up @click="setting = true">Set it up…</v-btn>
      <form v-else class="set" @submit.prevent="begin">
        <v-text-field v-model="reason" label="Why" data-field="set-reason" />
        <v-text-field v-model="like" label="Like which unit? Its serial; empty: as it is" data-field="set-like" />
        <v-checkbox v-model="wins" label="What the site’s profile has counts before what the unit has" hide-details data-field="set-wins" />
        <v-checkbox v-if="unit.defaults" v-model="reset" label="Back to the defaults of its sheet" hide-details data-field="set-reset" />
        <p class="small muted">It is read first; you see what becomes of each setting before anything is put in. No program is written.</p>
        <div class="row"><v-btn type="submit" color="primary" :loading="busy" data-begin-set>Read it, and ask me</v-btn><v-btn variant="text" @click="setting = false">Leave it</v-btn></div>
      </form>
    </template>
  </div>
</template>

<style scoped>
.head { margin-top: 20px; }
.public { margin-left: 8px; white-space: nowrap; }
.begin { margin-top: 12px; }
.set { display: grid; gap: 8px; margin-top: 12px; }
</style>
