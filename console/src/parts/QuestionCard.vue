<script setup lang="ts">
// The one question that stands between a unit and a verdict. Each answer shows
// beforehand where it leads.
import { mdiCamera, mdiHandBackRight } from '@mdi/js'
import { ref } from 'vue'

import type { Question } from '../api/client'
import { say, sayOf, verdicts } from '../words'
import StrokeDraw from './StrokeDraw.vue'
import VerdictTag from './VerdictTag.vue'

const props = defineProps<{ question: Question; busy: boolean }>()
const emit = defineEmits<{ answer: [value: string, photo: File | null]; later: [] }>()
const photo = ref<File | null>(null)
function pick(e: Event) {
  photo.value = (e.target as HTMLInputElement).files?.[0] ?? null
}
const lead = (a: Question['answers'][number]) =>
  a.leads === props.question.version ? '' : a.leads ? say('{1} would.', a.leads) : 'No release would.'
</script>

<template>
  <section class="asked" data-question aria-labelledby="ask">
    <div class="field">
      <div class="row head"><v-icon :icon="mdiHandBackRight" size="30" /> <strong>{{ sayOf('Your turn: one question', 'Your turn: first of {1} questions', question.left) }}</strong></div>
      <h2 id="ask" class="ask">{{ question.ask }}</h2>
    </div>
    <p v-if="question.look" class="look">{{ question.look }}</p>
    <button v-for="a in question.answers" :key="a.value" type="button" class="choice" :disabled="busy" :data-answer="a.value" @click="emit('answer', a.value, photo)">
      <StrokeDraw v-if="a.draw?.length" :strokes="a.draw" :says="a.says ?? a.value" />
      <span class="words">
        <strong class="says">{{ a.says || a.value }}</strong>
        <span v-if="a.says" class="small">{{ say('It is {1} {2}.', question.fact.replaceAll('-', ' '), a.value) }}</span>
        <span class="row leads"><span class="small">{{ question.version }}</span> <VerdictTag :verdict="a.verdict" :title="verdicts[a.verdict]" /></span>
        <span v-if="lead(a)" class="small">{{ lead(a) }}</span>
      </span>
    </button>
    <div class="foot">
      <label class="photo"><v-icon :icon="mdiCamera" /> <span>{{ photo ? photo.name : 'Add a photo of what you see' }}</span><input type="file" accept="image/jpeg,image/png,image/webp" capture="environment" class="out" @change="pick" /></label>
      <v-btn variant="outlined" block @click="emit('later')">I cannot see it from here</v-btn>
      <p class="small muted">Kept as a fact of this unit with your name, the time and the photo if you add one.</p>
    </div>
  </section>
</template>

<style scoped>
.asked { border: 2px solid var(--ink); border-radius: 10px; overflow: hidden; background: rgb(var(--v-theme-surface)); }
.field { background: rgb(var(--v-theme-hands-on)); color: rgb(var(--v-theme-on-hands-on)); padding: 14px 18px; }
.head { font-size: 17px; }
.ask { font-size: 24px; line-height: 1.25; margin-top: 6px; }
.look { padding: 12px 18px; border-bottom: 1px solid var(--line); font-size: 15px; }
.choice { display: flex; gap: 14px; width: 100%; min-height: 88px; padding: 12px 16px; text-align: left; font: inherit; color: inherit; background: none; border: 0; border-bottom: 1.5px solid var(--ink); cursor: pointer; align-items: center; }
.choice:hover { background: rgb(var(--v-theme-surface-light)); }
.choice:focus-visible { outline-offset: -4px; }
.words { display: grid; gap: 3px; }
.says { font-size: 18px; line-height: 1.25; }
.leads { gap: 6px; }
.foot { padding: 12px 16px; display: grid; gap: 8px; }
.photo { min-height: 44px; display: flex; align-items: center; gap: 8px; cursor: pointer; color: rgb(var(--v-theme-primary)); font-weight: 700; }
.photo:focus-within { outline: 3px solid rgb(var(--v-theme-primary)); outline-offset: 2px; }
</style>
