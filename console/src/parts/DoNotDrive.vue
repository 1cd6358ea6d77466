<script setup lang="ts">
// A vehicle of which a module runs no program is not driven.
import { mdiAlertOctagon } from '@mdi/js'
import { computed } from 'vue'

import type { Module } from '../api/client'
import { say } from '../words'

const props = defineProps<{ modules: Module[] }>()
const dead = computed(() => props.modules.filter((m) => m.boot))
</script>

<template>
  <div v-if="dead.length" class="stop" role="status" data-dead>
    <v-icon :icon="mdiAlertOctagon" size="36" />
    <div><strong>Do not drive</strong><div>{{ say('{1}: in its boot loader, and runs no program. Write it first.', dead.map((m) => m.title).join(', ')) }}</div></div>
  </div>
</template>

<style scoped>
.stop { display: flex; gap: 16px; align-items: center; background: rgb(var(--v-theme-stop)); color: rgb(var(--v-theme-on-stop)); border-radius: 8px; padding: 14px 20px; margin-bottom: 16px; }
.stop strong { font-size: 24px; }
</style>
