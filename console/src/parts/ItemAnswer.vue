<script setup lang="ts">
// The one confirm of a person's turn, by the kind of item, and the way out for who
// sees something else.
import { ref } from 'vue'

import type { Item } from '../api/client'
import { say } from '../words'

defineProps<{ item: Item; busy: boolean; lead: boolean; back?: string; pretend?: boolean }>()
const emit = defineEmits<{ answer: [value: string, note: string, photo: File | null, handed?: { whose: string; due: string }] }>()
const whose = ref('')
const due = ref('')
const handing = ref(false)
const value = ref('')
const photo = ref<File | null>(null)
const other = ref(false)
const note = ref('')
const word: Record<string, string> = { confirm: 'Done, it is so', wires: 'Looked twice, they are right', apply: 'Done' }

function take(e: Event) {
  photo.value = (e.target as HTMLInputElement).files?.[0] ?? null
}
function measured() {
  if (value.value !== '') emit('answer', String(value.value), '', null)
}
</script>

<template>
  <div class="answer" data-answer>
    <form v-if="handing" class="row" @submit.prevent="emit('answer', 'elsewhere', note, null, { whose, due })">
      <input v-model="whose" class="note" type="text" aria-label="Who answers it" placeholder="Who answers it?" data-whose />
      <label class="file">until <input v-model="due" class="note" type="date" data-due /></label>
      <input v-model="note" class="note" type="text" aria-label="Why it is not possible here" placeholder="Why not here?" />
      <v-btn type="submit" size="large" :disabled="whose.trim().length < 2 || !due" :loading="busy" data-hand-on>Hand it on</v-btn>
      <v-btn variant="outlined" size="large" @click="handing = false">Back</v-btn>
    </form>
    <div v-else-if="item.setting && !other" class="setting">
      <div v-if="item.do === 'choose'" class="row">
        <v-btn v-for="c in item.choices ?? []" :key="c.value" size="x-large" class="yes" :disabled="busy" :data-choice="c.value" @click="emit('answer', c.value, '', null)">{{ c.says.en }}</v-btn>
      </div>
      <template v-else>
        <v-btn v-if="item.offers" size="x-large" class="yes" :loading="busy" data-offered @click="emit('answer', 'offered', '', null)">Take the one made for it</v-btn>
        <form class="row own" @submit.prevent="emit('answer', value, '', null)">
          <input v-model="value" class="note" :type="item.secret ? 'password' : 'text'" autocomplete="off" :aria-label="item.says.en" :placeholder="item.offers ? 'Or type one of your own' : 'Its value'" data-value /><strong v-if="item.unit">{{ item.unit }}</strong>
          <v-btn type="submit" size="large" :disabled="!value.trim()" :loading="busy" data-put-value>That is to be it</v-btn>
        </form>
      </template>
      <div class="row else">
        <v-btn v-if="item.leaves && lead" variant="outlined" :disabled="busy" data-leave @click="other = true">Leave it, by name…</v-btn>
        <span v-else-if="item.leaves" class="small">A lead may leave it as it is.</span>
        <v-btn v-if="back" variant="text" :disabled="busy" :title="back" data-back @click="emit('answer', 'back', '', null)">Back to the one before</v-btn>
      </div>
    </div>
    <form v-else-if="item.setting" class="row" @submit.prevent="emit('answer', 'excused', note, null)">
      <input v-model="note" class="note" type="text" aria-label="Why it stays as it is" placeholder="Why does it stay as it is?" data-note />
      <v-btn type="submit" size="large" :disabled="note.trim().length < 3" :loading="busy" data-leave-it>Leave it as it is</v-btn>
      <v-btn variant="outlined" size="large" @click="other = false">Back</v-btn>
    </form>
    <div v-else-if="!other">
      <div v-if="item.do === 'choose'" class="row">
        <v-btn v-for="c in item.choices ?? []" :key="c.value" size="x-large" class="yes" :disabled="busy" :data-choice="c.value" @click="emit('answer', c.value, '', null)">{{ c.says.en }}</v-btn>
      </div>
      <form v-else-if="item.do === 'measure'" class="row" @submit.prevent="measured">
        <input v-model="value" class="meter counts" type="text" inputmode="decimal" :aria-label="say('What the meter shows, in {1}', item.unit)" data-measure /><strong class="unit">{{ item.unit }}</strong>
        <v-btn type="submit" size="x-large" class="yes" :loading="busy">That is what it shows</v-btn>
        <span>{{ say('{1} to {2} {3} is right', item.least, item.most, item.unit) }}</span>
      </form>
      <form v-else-if="item.do === 'give'" class="row" @submit.prevent="emit('answer', value, '', null)">
        <input v-model="value" class="note" type="text" maxlength="120" autocomplete="off" aria-label="Who takes it" placeholder="Who takes it?" data-takes />
        <v-btn type="submit" size="x-large" class="yes" :disabled="value.trim().length < 2" :loading="busy" data-give>It is handed over</v-btn>
      </form>
      <div v-else-if="item.do === 'photo'" class="row">
        <label v-if="!pretend" class="file">Picture <input type="file" accept="image/*" capture="environment" @change="take" /></label>
        <v-btn size="x-large" class="yes" :disabled="!photo && !pretend" :loading="busy" data-photo @click="emit('answer', 'yes', '', photo)">{{ pretend ? 'Taken' : 'Keep this picture' }}</v-btn>
      </div>
      <v-btn v-else size="x-large" class="yes" :loading="busy" data-confirm @click="emit('answer', 'yes', '', null)">{{ item.test ? 'Passed' : item.at === 'set' ? 'Yes, put them in' : word[item.do] }}</v-btn>
      <div class="row else">
        <v-btn variant="outlined" :disabled="busy" data-else @click="other = true">{{ item.test ? 'Not passed' : item.at === 'set' ? 'No, not so' : item.do === 'give' ? 'Not handed over' : 'I see something else' }}</v-btn>
        <v-btn v-if="item.test" variant="outlined" :disabled="busy" data-elsewhere @click="handing = true">Not possible here</v-btn>
        <v-btn v-if="back" variant="text" :disabled="busy" :title="back" data-back @click="emit('answer', 'back', '', null)">Back to the one before</v-btn>
      </div>
    </div>
    <form v-else class="row" @submit.prevent="emit('answer', item.at === 'left' && lead && !item.test ? 'excused' : 'no', note, null)">
      <input v-model="note" class="note" type="text" aria-label="What you see" :placeholder="item.at === 'left' && lead && !item.test ? 'Why it stays undone' : 'What do you see?'" data-note />
      <v-btn type="submit" size="large" :disabled="note.trim().length < 3" :loading="busy">{{ item.test ? 'It was not passed' : item.at === 'left' ? (lead ? 'Leave it undone' : 'Note it') : 'Stop here' }}</v-btn>
      <v-btn variant="outlined" size="large" @click="other = false">Back</v-btn>
    </form>
  </div>
</template>

<style scoped>
.answer { margin-top: 12px; display: grid; gap: 12px; }
.yes { min-height: 72px; font-size: 22px; background: rgb(var(--v-theme-on-hands-on)) !important; color: rgb(var(--v-theme-hands-on)) !important; }
.else { margin-top: 16px; }
.own { margin-top: 12px; max-width: 720px; }
.meter { width: 150px; height: 72px; font: 700 40px var(--mono); padding: 0 12px; border: 2px solid currentColor; border-radius: 4px; background: rgb(var(--v-theme-warning)); color: inherit; }
.note { flex: 1; min-width: 220px; height: 56px; font: 18px var(--body); padding: 0 12px; border: 2px solid currentColor; border-radius: 4px; color: inherit; background: none; }
.note::placeholder { color: inherit; }
.unit { font-size: 32px; }
.file { font-weight: 700; }
@media (max-width: 600px) { .yes { width: 100%; min-height: 92px; } }
</style>
