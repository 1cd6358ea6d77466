<script setup lang="ts">
// A message with elements among its words: each {1}, {2}, … is the slot of that number, or
// what is put in as text. Where all of it is text, say() does.
defineProps<{ text: string; put?: Record<number, string | number | undefined | null> }>()
const pieces = (text: string) => text.split(/\{(\d+)\}/)
</script>

<template>
  <template v-for="(piece, i) in pieces(text)" :key="i"><slot v-if="i % 2" :name="piece">{{ put?.[Number(piece)] }}</slot><template v-else>{{ piece }}</template></template>
</template>
