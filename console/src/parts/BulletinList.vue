<script setup lang="ts">
// Bulletins that speak to a unit, and by what.
import { mdiBullhornVariantOutline } from '@mdi/js'

import type { Bulletin } from '../api/client'
import { say } from '../words'

defineProps<{ bulletins: Bulletin[]; of?: string }>()
</script>

<template>
  <ul class="bulletins">
    <li v-for="b in bulletins" :key="b.number" :data-bulletin="b.number">
      <v-icon :icon="mdiBullhornVariantOutline" size="22" />
      <div><strong><template v-if="of">{{ of }}: </template>{{ b.title }}</strong><div>{{ b.says }}</div><div class="small muted">{{ b.speaksWhy?.length ? say('Bulletin {1}: {2}', b.number, b.speaksWhy.map((w) => w.text).join(', ')) : say('Bulletin {1}', b.number) }}</div></div>
    </li>
  </ul>
</template>

<style scoped>
.bulletins { list-style: none; padding: 0; display: grid; gap: 8px; margin: 4px 0 20px; }
li { display: flex; gap: 10px; border-left: 4px solid var(--hands, var(--ink)); padding: 4px 12px; }
</style>
