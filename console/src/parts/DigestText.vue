<script setup lang="ts">
import { mdiCheck, mdiContentCopy } from '@mdi/js'
import { ref } from 'vue'

import { shortDigest } from '../words'

const props = defineProps<{ digest: string }>()
const copied = ref(false)
async function copy() {
  await navigator.clipboard.writeText(props.digest)
  copied.value = true
  setTimeout(() => (copied.value = false), 1500)
}
</script>

<template>
  <span class="digest"><span class="mono">{{ shortDigest(digest) }}</span>
    <button type="button" :aria-label="copied ? 'copied' : 'Copy the whole digest'" @click="copy"><v-icon :icon="copied ? mdiCheck : mdiContentCopy" size="18" /></button>
  </span>
</template>

<style scoped>
.digest { display: inline-flex; align-items: center; white-space: nowrap; }
button { width: 44px; height: 44px; background: none; border: 0; color: inherit; cursor: pointer; margin: -10px 0; }
</style>
