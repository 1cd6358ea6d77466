<script setup lang="ts">
// What to do next: each step leads to the page where it is done. What only the command
// line does is said in words.
import type { Step } from '../api/client'

defineProps<{ todo: { next?: string; steps?: Step[] } }>()
</script>

<template>
  <p v-if="todo.steps?.length" data-next>
    <strong class="lead">Next:</strong>
    <template v-for="s in todo.steps" :key="s.says">
       <router-link v-if="s.page" :to="s.page" class="step">{{ s.says.replace(/[.:]+$/, '') }}</router-link><template v-else>{{ s.says.replace(/[.:]+$/, '') }}</template>.
    </template>
  </p>
  <p v-else-if="todo.next" data-next><strong>Next:</strong> {{ todo.next }}</p>
</template>

<style scoped>
.step { font-weight: 600; }
.lead { margin-right: 0.3em; }
</style>
