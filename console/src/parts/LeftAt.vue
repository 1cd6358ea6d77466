<script setup lang="ts">
// What runs have left at a unit by name, and what was seen there and not ordered.
import { mdiEyeOutline } from '@mdi/js'
import { ref } from 'vue'

import { api, problem, send, type Problem, type UnitPage } from '../api/client'
import { session } from '../session'
import { sentence, when } from '../words'
import Trouble from './Trouble.vue'

const props = defineProps<{ unit: UnitPage }>()
const emit = defineEmits<{ changed: [] }>()
const wrong = ref<Problem | null>(null)
const doing = ref('')
const note = ref('')
const seeing = ref(false)
const says = ref('')
const photo = ref<File | null>(null)
const ending = ref(0)
const how = ref('')
const busy = ref(false)
const path = () => ({ path: { unit: props.unit.id } })

async function act(call: () => Promise<{ error?: unknown }>) {
  busy.value = true
  wrong.value = null
  try {
    const { error } = await call()
    if (error) throw error
    doing.value = note.value = says.value = how.value = ''
    seeing.value = false
    ending.value = 0
    photo.value = null
    emit('changed')
  } catch (e) {
    wrong.value = problem(e)
  }
  busy.value = false
}
const done = (o: UnitPage['owed'][number]) => act(() => api.POST('/api/units/{unit}/owed', { params: path(), body: { kind: o.kind as 'undo', ...(o.item && { item: o.item }), ...(o.section && { section: o.section }), note: note.value } }))
const seen = () =>
  act(async () => {
    const kept = photo.value ? (await send<{ digest: string }>(`/api/evidence?kind=${encodeURIComponent(photo.value.type)}`, photo.value)).digest : ''
    return api.POST('/api/units/{unit}/offers', { params: path(), body: { says: says.value, ...(kept && { photo: kept }) } })
  })
const end = () => act(() => api.POST('/api/offers/{offer}/end', { params: { path: { offer: ending.value } }, body: { how: how.value } }))
</script>

<template>
  <div data-left-at>
    <div v-for="o in unit.owed" :key="o.kind + o.section + o.item" class="row one" :data-left="o.item">
      <span><strong>Left:</strong> {{ o.says }} <span class="small muted">{{ sentence(o.reason) }} {{ o.by }}, {{ when(o.since) }}</span></span>
      <template v-if="o.byHand && session.may('technician') && !unit.run">
        <v-btn v-if="doing !== o.item" variant="outlined" size="small" data-done @click="doing = o.item ?? ''">It is done…</v-btn>
        <form v-else class="row" @submit.prevent="done(o)"><v-text-field v-model="note" label="How" hide-details class="field" data-done-note /><v-btn type="submit" variant="outlined" :disabled="note.trim().length < 3" :loading="busy" data-done-yes>Done</v-btn></form>
      </template>
    </div>
    <div v-for="o in unit.offers" :key="o.number" class="row one small" :data-offer="o.number">
      <span><strong>Seen, not ordered:</strong> {{ o.says }} <span class="muted">{{ o.by }}, {{ when(o.at) }}</span> <a v-if="o.photo" :href="`/api/evidence/${o.photo}`" target="_blank">picture</a></span>
      <template v-if="session.may('technician')">
        <v-btn v-if="ending !== o.number" variant="text" size="small" data-end-offer @click="ending = o.number">What came of it…</v-btn>
        <form v-else class="row" @submit.prevent="end"><v-text-field v-model="how" label="A job, not wanted, nothing" hide-details class="field" data-how /><v-btn type="submit" variant="outlined" :disabled="how.trim().length < 3" :loading="busy" data-how-yes>Keep it</v-btn></form>
      </template>
    </div>
    <template v-if="session.may('technician')">
      <v-btn v-if="!seeing" variant="text" :prepend-icon="mdiEyeOutline" class="see" data-see @click="seeing = true">I saw something else here…</v-btn>
      <form v-else class="row" @submit.prevent="seen"><v-text-field v-model="says" label="What was seen, and not ordered" hide-details class="field" data-seen /><label class="small">Picture <input type="file" accept="image/*" @change="photo = ($event.target as HTMLInputElement).files?.[0] ?? null" /></label><v-btn type="submit" variant="outlined" :disabled="says.trim().length < 3" :loading="busy" data-seen-yes>Note it</v-btn><v-btn variant="text" @click="seeing = false">Leave it</v-btn></form>
    </template>
    <Trouble v-if="wrong" :problem="wrong" />
  </div>
</template>

<style scoped>
.one { padding: 2px 0; }
.field { min-width: 260px; }
.see { margin-left: -12px; }
</style>
