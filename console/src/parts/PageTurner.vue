<script setup lang="ts">
// Where one is in a list, and the way on and back.
import { mdiChevronLeft, mdiChevronRight } from '@mdi/js'
import { computed } from 'vue'

import type { Pages } from '../pages'
import { extent, say } from '../words'

const props = defineProps<{ pages: Pages; size: number; shown: number; called: string; one: string; many: string; over: string }>()
const from = computed(() => props.pages.came.value.length * props.size)
const all = computed(() => extent(props.pages.total.value, props.pages.more.value, props.one, props.many, props.over))
const alone = computed(() => !from.value && !props.pages.next.value)
</script>

<template>
  <nav class="turner" :aria-label="say('Pages of {1}', called)">
    <span class="small muted" data-total>{{ alone ? all : !shown ? 'none here' : say('{1} to {2} of {3}', (from + 1).toLocaleString('en'), (from + shown).toLocaleString('en'), all) }}</span>
    <template v-if="!alone">
      <v-btn :icon="mdiChevronLeft" variant="text" size="small" :disabled="!from" aria-label="The page before" @click="pages.back" />
      <v-btn :icon="mdiChevronRight" variant="text" size="small" :disabled="!pages.next.value" aria-label="The next page" @click="pages.on" />
    </template>
  </nav>
</template>

<style scoped>
.turner { display: flex; align-items: center; gap: 4px; justify-content: flex-end; min-height: 40px; }
</style>
