<script setup lang="ts">
// Where a unit is to stay, and what a lead lets it have.
import { mdiAnchor, mdiAccountCheckOutline } from '@mdi/js'
import { computed, reactive, ref } from 'vue'

import { api, problem, type Problem, type UnitPage } from '../api/client'
import { permits } from '../api/names'
import { session } from '../session'
import { say, sentence, when } from '../words'
import Trouble from './Trouble.vue'

const props = defineProps<{ unit: UnitPage }>()
const emit = defineEmits<{ changed: [] }>()
const open = ref<'' | 'hold' | 'consent'>('')
const busy = ref(false)
const trouble = ref<Problem | null>(null)
const to = reactive({ version: '', reason: '', until: '', for: 'step-back' as 'step-back' | 'candidate' | 'unknown-program' })
const versions = computed(() => props.unit.fit?.verdicts.map((v) => v.version) ?? [])
const kinds = Object.entries(permits).map(([value, title]) => ({ value, title }))

function begin(what: 'hold' | 'consent') {
  Object.assign(to, { version: props.unit.running, reason: '', until: '', for: 'step-back' })
  trouble.value = null
  open.value = what
}

async function put(what: 'hold' | 'consent' | 'end') {
  busy.value = true
  trouble.value = null
  try {
    const { error } =
      what === 'end'
        ? await api.POST('/api/holds/end', { body: { unit: props.unit.id } })
        : what === 'hold'
          ? await api.POST('/api/holds', { body: { unit: props.unit.id, version: to.version, reason: to.reason, until: to.until } })
          : await api.POST('/api/units/{unit}/consents', { params: { path: { unit: props.unit.id } }, body: { for: to.for, reason: to.reason, until: to.until } })
    if (error) throw error
    open.value = ''
    emit('changed')
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}
</script>

<template>
  <div data-rules>
    <p v-if="unit.held" class="row tight" data-held><v-icon :icon="mdiAnchor" size="20" /><span><strong>{{ unit.held.until ? say('Stays at {1} until {2}.', unit.held.version, unit.held.until) : say('Stays at {1}.', unit.held.version) }}</strong> {{ sentence(unit.held.reason) }} <span class="small muted">{{ unit.held.by }}, {{ when(unit.held.at) }}</span></span></p>
    <p v-for="c in unit.consents" :key="c.at" class="row tight small"><v-icon :icon="mdiAccountCheckOutline" size="18" /><span>{{ say('{1} consents to a {2} until {3}: {4}', c.by, permits[c.for], when(c.until), sentence(c.reason)) }}</span></p>
    <div v-if="session.may('lead')" class="row">
      <v-btn variant="text" size="small" data-hold @click="begin('hold')">Hold it at a release</v-btn>
      <v-btn v-if="unit.held?.unit" variant="text" size="small" :loading="busy" data-hold-end @click="put('end')">End the hold</v-btn>
      <v-btn variant="text" size="small" data-consent @click="begin('consent')">Give consent</v-btn>
    </div>
    <Trouble v-if="trouble && !open" :problem="trouble" />
    <v-dialog :model-value="!!open" max-width="640" @update:model-value="open = ''">
      <v-card class="dialog">
        <h2>{{ open === 'hold' ? say('Hold {1} at a release', unit.serial) : say('Consent for {1}', unit.serial) }}</h2>
        <p class="muted">{{ open === 'hold' ? 'Whoever works on it is shown this release and why; another one is refused.' : 'What not every unit may have. It stands in the history and in the record of the run, with your name.' }}</p>
        <v-select v-if="open === 'hold'" v-model="to.version" :items="versions" label="Release" data-field="version" />
        <v-select v-else v-model="to.for" :items="kinds" label="For" data-field="for" />
        <v-text-field v-model="to.reason" label="Why" data-field="reason" />
        <v-text-field v-model="to.until" type="date" :label="open === 'hold' ? 'Last day; empty: until somebody ends it' : 'Last day; empty: a week'" data-field="until" />
        <Trouble v-if="trouble" :problem="trouble" />
        <div class="row end"><v-btn variant="text" @click="open = ''">Close</v-btn><v-btn color="primary" :disabled="to.reason.trim().length < 3" :loading="busy" data-put @click="open && put(open)">{{ open === 'hold' ? 'Hold it there' : 'Give it' }}</v-btn></div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.tight { gap: 8px; flex-wrap: nowrap; align-items: flex-start; }
</style>
