<script setup lang="ts">
// Where the unit is while its run waits, and who has it.
import { ref } from 'vue'

defineProps<{ busy: boolean }>()
const shown = defineModel<boolean>({ required: true })
const emit = defineEmits<{ aside: [place: string, holder: string, why: string] }>()
const place = ref('')
const holder = ref('')
const why = ref('')
</script>

<template>
  <v-dialog v-model="shown" max-width="560">
    <v-card>
      <v-card-title>Lay this run aside</v-card-title>
      <v-card-text>
        <p>It waits as long as it takes, on everybody's list. Its link is free meanwhile; anybody may go on with it, also at another bench.</p>
        <v-text-field v-model="place" label="Where the unit is meanwhile" data-place />
        <v-text-field v-model="holder" label="Who has it" data-holder />
        <v-text-field v-model="why" label="What it waits for" />
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn variant="text" @click="shown = false">Leave it</v-btn>
        <v-btn color="primary" variant="outlined" :disabled="!place.trim() || !holder.trim()" :loading="busy" data-aside-yes @click="emit('aside', place, holder, why)">Lay it aside</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
