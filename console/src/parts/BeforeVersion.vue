<script setup lang="ts">
// Which version runs, where the unit does not tell it on the wire: off its display, a
// banner or a sticker, with a photo; or why nobody could read it.
import { ref } from 'vue'

defineProps<{ busy: boolean }>()
const emit = defineEmits<{ read: [value: string, photo: File | null]; unread: [why: string] }>()
const value = ref('')
const why = ref('')
const photo = ref<File | null>(null)
</script>

<template>
  <div class="before" data-before>
    <p class="small">It does not tell which version it runs. Read it off its display, a banner or a sticker: it stands in the record.</p>
    <form class="row" @submit.prevent="emit('read', value.trim(), photo)">
      <v-text-field v-model="value" label="It shows version" density="compact" hide-details data-before-value />
      <v-file-input v-model="photo" label="Photo" accept="image/*" density="compact" hide-details />
      <v-btn type="submit" variant="outlined" :disabled="!value.trim()" :loading="busy" data-before-read>It shows that</v-btn>
    </form>
    <form class="row" @submit.prevent="emit('unread', why.trim())">
      <v-text-field v-model="why" label="It cannot be read, because" density="compact" hide-details data-before-why />
      <v-btn type="submit" variant="text" :disabled="why.trim().length < 3" :loading="busy" data-before-unread>Note that</v-btn>
    </form>
  </div>
</template>

<style scoped>
.before { display: grid; gap: 8px; margin-top: 8px; max-width: 720px; }
.before .row { align-items: center; gap: 8px; }
</style>
