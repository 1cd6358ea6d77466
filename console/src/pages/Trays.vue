<script setup lang="ts">
// Many units that get the same release in one go: those that are open, those that were, and
// how another one is opened.
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, problem, type Problem, type TrayRow } from '../api/client'
import TrayForm from '../parts/TrayForm.vue'
import PageTurner from '../parts/PageTurner.vue'
import Trouble from '../parts/Trouble.vue'
import { usePages } from '../pages'
import { session } from '../session'
import { say, seatWords, sentence, when } from '../words'

const router = useRouter()
const trays = ref<TrayRow[] | null>(null)
const pages = usePages(load)
const size = 50
const trouble = ref<Problem | null>(null)

async function load() {
  try {
    const { data, error } = await api.GET('/api/trays', { params: { query: { after: pages.after.value, size } } })
    if (error) throw error
    trays.value = data.trays
    pages.take(data)
    trouble.value = null
  } catch (e) {
    trouble.value = problem(e)
  }
}
load()
</script>

<template>
  <div class="page">
    <div class="row spread">
      <h1>Trays</h1>
      <TrayForm v-if="session.may('technician')" @open="(t) => router.push(`/trays/${t.id}`)" />
    </div>
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-else-if="trays">
      <table v-if="trays.length" class="plain stack list">
        <thead><tr><th>Tray</th><th>Reason</th><th>Units</th><th>Bench</th><th>By</th><th>Begun</th><th>Stands</th></tr></thead>
        <tbody>
          <tr v-for="t in trays" :key="t.id">
            <td><router-link :to="`/trays/${t.id}`"><strong>{{ t.modelName }}</strong> <span class="mono">{{ t.version }}</span></router-link></td>
            <td>{{ sentence(t.reason) }}</td>
            <td>{{ seatWords(t.count) }}</td>
            <td data-label="bench">{{ t.bench }}</td>
            <td data-label="by">{{ t.by }}</td>
            <td class="small">{{ when(t.at) }}</td>
            <td>{{ t.closed ? say('closed since {1}', when(t.closed)) : 'open' }}</td>
          </tr>
        </tbody>
      </table>
      <v-empty-state v-else title="No tray yet" text="A tray puts one release into many units: whoever is plugged in and belongs to it is begun, after its own identity and checks." />
      <PageTurner v-if="trays.length" :pages="pages" :size="size" :shown="trays.length" called="trays" one="{1} tray" many="{1} trays" over="more than {1} trays" />
    </template>
    <v-skeleton-loader v-else type="table-tbody" color="background" />
  </div>
</template>

<style scoped>
.list { margin-top: 16px; }
</style>
