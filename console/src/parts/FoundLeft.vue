<script setup lang="ts">
// As found and as left, side by side: by question and by picture.
import type { Answered, Side } from '../api/client'

defineProps<{ sides: Side[] }>()
const said = (a?: Answered) => (a ? [a.photo ? '' : a.value, a.note].filter(Boolean).join(', ') : 'not asked')
const href = (d: string) => `/api/evidence/${d}`
</script>

<template>
  <div class="sides" data-sides>
    <div v-for="s in sides" :key="s.says" class="pair">
      <div class="says">{{ s.says }} <strong v-if="s.other" class="other">other than found</strong><span v-else-if="s.found && s.left && s.do === 'choose'" class="muted">as found</span></div>
      <figure v-for="x in [{ name: 'as found', a: s.found }, { name: 'as left', a: s.left }]" :key="x.name">
        <figcaption class="small muted">{{ x.name }}</figcaption>
        <a v-if="x.a?.photo" :href="href(x.a.photo)" target="_blank"><img :src="href(x.a.photo)" :alt="`${s.says} ${x.name}`" loading="lazy" /></a>
        <strong v-if="said(x.a)" :class="{ muted: !x.a }">{{ said(x.a) }}</strong>
      </figure>
    </div>
  </div>
</template>

<style scoped>
.sides { display: grid; gap: 0; }
.pair { display: grid; grid-template-columns: 1.2fr 1fr 1fr; gap: 16px; padding: 12px 0; border-bottom: 1px solid var(--line); align-items: start; }
.other { border: 1.5px solid currentColor; border-radius: 4px; padding: 0 6px; white-space: nowrap; }
figure { margin: 0; display: grid; gap: 4px; }
img { width: 100%; max-width: 320px; aspect-ratio: 4 / 3; object-fit: cover; border: 1px solid var(--line); border-radius: 4px; display: block; }
@media (max-width: 600px) { .pair { grid-template-columns: 1fr 1fr; } .says { grid-column: 1 / -1; } }
</style>
