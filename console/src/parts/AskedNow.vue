<script setup lang="ts">
// How far a question is that a bench asks on a link, and the way to end it. It is there while
// somebody waits for the answer, or while somebody else's question has the link.
import { mdiProgressQuestion } from '@mdi/js'
import { computed, ref } from 'vue'

import { api, problem, type Asked, type Problem } from '../api/client'
import { every } from '../every'
import Trouble from './Trouble.vue'
import { session } from '../session'
import { cap, questions, sentence } from '../words'
import Says from './Says.vue'

const props = defineProps<{ at: string }>()
const asked = ref<Asked | null>(null)
const now = ref(Date.now())
const ending = ref(false)
const trouble = ref<Problem | null>(null)

every(1000, async () => {
  now.value = Date.now()
  const { data } = await api.GET('/api/asked', { params: { query: { at: props.at } } })
  asked.value = data?.kind ? data : null
})
const whose = computed(() => (asked.value?.by && asked.value.by !== session.person?.name ? asked.value.by : ''))
const seconds = computed(() => (asked.value?.since ? Math.max(0, Math.round((now.value - new Date(asked.value.since).getTime()) / 1000)) : 0))

async function end() {
  ending.value = true
  const { error } = await api.POST('/api/asked/end', { body: { at: props.at } })
  trouble.value = error ? problem(error) : null
  ending.value = false
}
</script>

<template>
  <section v-if="asked" class="now" data-asked>
    <v-icon :icon="mdiProgressQuestion" size="32" />
    <div class="says" role="status"><Says :text="whose ? '{1} for {2} s, begun by {3}' : '{1} for {2} s'" :put="{ 2: seconds, 3: whose }"><template #1><strong>{{ cap(questions[asked.kind] ?? asked.kind) }}</strong></template></Says><div v-if="asked.told" data-told>{{ sentence(asked.told.text) }}</div></div>
    <v-btn v-if="asked.ends && session.may('technician')" variant="outlined" :loading="ending" data-end-asked @click="end">End it</v-btn>
  </section>
  <Trouble v-if="trouble" :problem="trouble" />
</template>

<style scoped>
.now { display: flex; gap: 16px; align-items: center; flex-wrap: wrap; padding: 12px 16px; margin: 8px 0; border: 1px solid var(--outline); border-radius: 6px; }
.says { flex: 1 1 240px; font-variant-numeric: tabular-nums; }
</style>
