<script setup lang="ts">
// What is on the line just now: bytes, faults, modem lines. It listens as long as
// somebody looks; nothing is sent.
import { mdiEarHearing, mdiEarHearingOff } from '@mdi/js'
import { computed, onUnmounted, ref } from 'vue'

import { api, problem, type Heard, type Problem } from '../api/client'
import Trouble from './Trouble.vue'

const props = defineProps<{ at: string; model?: string }>()
const emit = defineEmits<{ left: [] }>()
const listening = ref(false)
const heard = ref<Heard | null>(null)
const sum = ref({ bytes: 0, framing: 0, parity: 0, breaks: 0, overrun: 0 })
const text = ref('')
const trouble = ref<Problem | null>(null)
const gone = ref(false)
let ended = false

let loop: Promise<void> = Promise.resolve()
function start() {
  loop = listen()
}
// stop ends the listening, and is over once the link is free again.
async function stop() {
  listening.value = false
  await loop
}
defineExpose({ stop })

async function listen() {
  listening.value = true
  sum.value = { bytes: 0, framing: 0, parity: 0, breaks: 0, overrun: 0 }
  text.value = ''
  gone.value = false
  trouble.value = null
  while (listening.value && !ended && !document.hidden) {
    try {
      const { data, error } = await api.POST('/api/listen', { body: { at: props.at, lasts: 1000, ...(props.model && { model: props.model }) } })
      if (error) throw error
      if (ended) return
      const s = data.signs
      heard.value = data
      if (data.left) {
        gone.value = true
        emit('left')
      }
      sum.value = { bytes: sum.value.bytes + data.bytes, framing: sum.value.framing + s.framing, parity: sum.value.parity + s.parity, breaks: sum.value.breaks + s.breaks, overrun: sum.value.overrun + s.overrun }
      text.value = (text.value + data.text).slice(-600)
    } catch (e) {
      trouble.value = problem(e)
      break
    }
  }
  listening.value = false
}
onUnmounted(() => (ended = true))

const lines = computed(() => {
  const s = heard.value?.signs
  return s ? ([['CTS', s.cts], ['DSR', s.dsr], ['DCD', s.dcd], ['RI', s.ri]] as [string, boolean][]) : []
})
const says = computed(() => {
  const n = sum.value
  if (!heard.value) return ''
  if (n.framing + n.parity > 0) return 'What comes has the wrong speed, parity or level: ask it, the check finds the setting.'
  if (n.breaks > 0) return 'The line stands low: no power, or its two ends are joined.'
  return n.bytes ? 'Bytes come, and each is whole.' : 'Nothing comes by itself. That is right for a unit that waits in its loader.'
})
</script>

<template>
  <section class="line" data-line :data-bytes="sum.bytes">
    <div class="row spread">
      <h2>The line just now</h2>
      <v-btn variant="outlined" :prepend-icon="listening ? mdiEarHearingOff : mdiEarHearing" data-listen @click="listening ? stop() : start()">{{ listening ? 'Stop listening' : 'Listen' }}</v-btn>
    </div>
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-if="heard">
      <div class="signs" aria-live="polite">
        <template v-if="heard.signs.told">
          <span v-for="[name, on] in lines" :key="name" class="sign" :class="{ on }"><strong>{{ name }}</strong> {{ on ? 'on' : 'off' }}</span>
        </template>
        <span v-else class="muted">This link does not tell modem lines and faults.</span>
      </div>
      <dl class="counts">
        <div><dt>Bytes</dt><dd>{{ sum.bytes }}</dd></div>
        <template v-if="heard.signs.told">
          <div :class="{ brick: sum.framing }"><dt>No stop bit</dt><dd>{{ sum.framing }}</dd></div>
          <div :class="{ brick: sum.parity }"><dt>Wrong parity</dt><dd>{{ sum.parity }}</dd></div>
          <div :class="{ brick: sum.breaks }"><dt>Breaks</dt><dd>{{ sum.breaks }}</dd></div>
        </template>
        <div><dt>At</dt><dd>{{ heard.mode.baud }}</dd></div>
      </dl>
      <p v-if="gone" class="brick"><strong>The unit left the line, or lost its power, while it was listened to: identify it anew.</strong></p>
      <p>{{ says }}</p>
      <pre v-if="text.trim()" class="mono" tabindex="0" aria-label="What came, as text">{{ text.trim() }}</pre>
    </template>
    <p v-else-if="!trouble" class="muted">{{ listening ? 'Listening …' : 'Hears what comes, and tells faults and modem lines. Nothing is sent.' }}</p>
  </section>
</template>

<style scoped>
.line { margin-top: 28px; }
.signs { display: flex; flex-wrap: wrap; gap: 12px; margin: 12px 0; }
.sign { border: 1.5px dashed var(--outline); border-radius: 4px; padding: 6px 12px; }
.sign.on { border-style: solid; border-color: var(--ink); background: rgb(var(--v-theme-tint-teal)); }
.counts { display: flex; flex-wrap: wrap; gap: 8px 32px; margin: 12px 0; }
dt { color: var(--muted); font-size: 14px; }
dd { font: 700 22px var(--mono); }
pre { margin-top: 12px; padding: 12px; max-height: 180px; overflow: auto; white-space: pre-wrap; border: 1px solid var(--line); border-radius: 8px; background: rgb(var(--v-theme-surface)); }
</style>
