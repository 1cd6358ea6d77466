<script setup lang="ts">
// What was said on a run's line until something went wrong, newest trace first.
import { mdiArrowLeft, mdiArrowRight } from '@mdi/js'
import { nextTick, ref, watch } from 'vue'

import { api, problem, type Problem, type Traces } from '../api/client'
import Trouble from './Trouble.vue'
import { clock, say, zone } from '../words'

const props = defineProps<{ run: string; count: number }>()
const traces = ref<Traces['traces']>([])
const wrong = ref<Problem | null>(null)
const open = ref(false)
const box = ref<HTMLElement | null>(null)

async function load() {
  if (!open.value) return
  const { data, error } = await api.GET('/api/runs/{run}/traces', { params: { path: { run: props.run } } })
  wrong.value = error ? problem(error) : null
  if (data) traces.value = [...data.traces].reverse()
  await nextTick() // what was said last is what one looks for
  for (const l of box.value?.querySelectorAll('ol') ?? []) l.scrollTop = l.scrollHeight
}
watch([() => props.count, open], load)

/** ms is the time of day of a piece, to the millisecond. */
function ms(began: string, after: number) {
  const at = new Date(new Date(began).getTime() + after * 1000)
  return `${clock(at)}.${String(at.getMilliseconds()).padStart(3, '0')}`
}
</script>

<template>
  <details ref="box" class="traces" data-traces @toggle="open = ($event.target as HTMLDetailsElement).open">
    <summary>What was said on the line, until it went wrong</summary>
    <Trouble v-if="wrong" :problem="wrong" />
    <p class="small muted">Of memory the heads of the messages alone; of passwords, keys, files and settings nothing but how long they were.</p>
    <section v-for="(t, i) in traces" :key="i">
      <h3>{{ say('{1}, until {2} {3}', t.link, clock(t.at), zone(new Date(t.at))) }}</h3>
      <p v-if="t.gone" class="small" data-gone>{{ t.gone.text }}</p>
      <ol v-else class="mono" tabindex="0" :aria-label="say('What was said on {1} until {2}', t.link, clock(t.at))">
        <li v-for="(p, j) in t.pieces" :key="j" :class="{ sent: p.sent }">
          <span class="muted">{{ ms(t.began, p.after) }}</span>
          <v-icon :icon="p.sent ? mdiArrowRight : mdiArrowLeft" size="16" :aria-label="p.sent ? 'to the unit' : 'from the unit'" />
          <span class="said"><strong v-if="p.about">{{ p.about }} </strong><strong v-if="p.means">{{ p.means }} </strong><span :class="{ muted: !!p.means }">{{ p.text }}</span><span v-if="p.more" class="muted">{{ say(' + {1} bytes', p.more) }}</span></span>
        </li>
      </ol>
    </section>
  </details>
</template>

<style scoped>
.traces { margin: 8px 0 24px; }
summary { min-height: 44px; display: flex; align-items: center; cursor: pointer; color: rgb(var(--v-theme-primary)); font-weight: 600; }
summary::before { content: '▸'; margin-right: 8px; }
details[open] > summary::before { content: '▾'; }
ol { list-style: none; padding: 8px 12px; margin: 8px 0 16px; max-height: 420px; overflow: auto; border: 1px solid var(--line); border-radius: 6px; background: rgb(var(--v-theme-surface)); font-size: 0.875rem; }
li { display: grid; grid-template-columns: 8.5em 20px minmax(0, 1fr); gap: 8px; align-items: baseline; }
.said { overflow-wrap: anywhere; }
@media (max-width: 600px) { li { grid-template-columns: 20px minmax(0, 1fr); } li > .muted { grid-column: 1 / -1; } }
</style>
