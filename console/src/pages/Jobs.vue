<script setup lang="ts">
import { ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, problem, type Job, type Problem } from '../api/client'
import JobForm from '../parts/JobForm.vue'
import PageTurner from '../parts/PageTurner.vue'
import Trouble from '../parts/Trouble.vue'
import { usePages } from '../pages'
import { session } from '../session'
import { when } from '../words'

const router = useRouter()
const jobs = ref<Job[] | null>(null)
const pages = usePages(load)
const state = ref<'open' | 'closed'>('open')
const size = 50
const trouble = ref<Problem | null>(null)

async function load() {
  try {
    const { data, error } = await api.GET('/api/jobs', { params: { query: { state: state.value, after: pages.after.value, size } } })
    if (error) throw error
    jobs.value = data.jobs
    pages.take(data)
    trouble.value = null
  } catch (e) {
    trouble.value = problem(e)
  }
}
watch(state, () => {
  pages.begin()
  load()
}, { immediate: true })
</script>

<template>
  <div class="page">
    <div class="row spread">
      <h1>Jobs</h1>
      <div class="row">
        <v-btn-toggle v-model="state" mandatory variant="outlined" divided><v-btn value="open">Open</v-btn><v-btn value="closed" data-closed>Closed</v-btn></v-btn-toggle>
        <v-btn variant="outlined" to="/trays" data-trays>Trays</v-btn>
        <JobForm v-if="session.may('technician')" @put="(j) => router.push(`/jobs/${j.number}`)" />
      </div>
    </div>
    <Trouble v-if="trouble" :problem="trouble" />
    <template v-else-if="jobs">
      <table v-if="jobs.length" class="plain stack list">
        <thead><tr><th>Job</th><th>{{ state === 'open' ? 'Planned' : 'Closed' }}</th><th>Reason</th><th>Asked by</th><th>Units</th><th>For</th></tr></thead>
        <tbody>
          <tr v-for="j in jobs" :key="j.number">
            <td><router-link :to="`/jobs/${j.number}`"><strong>{{ j.number }}</strong></router-link></td>
            <td :data-label="state === 'open' ? 'planned' : 'closed'" class="mono">{{ state === 'open' ? j.planned || 'not yet' : when(j.closed) }}</td>
            <td>{{ j.reason }}</td>
            <td data-label="asked by">{{ j.asked }}</td>
            <td data-label="units">{{ j.units }}</td>
            <td data-label="for">{{ j.person }}</td>
          </tr>
        </tbody>
      </table>
      <v-empty-state v-else :title="state === 'open' ? 'No job is open' : 'No job is closed'" text="A job says why work is done, for whom, on which units, and what counts as done." />
      <PageTurner v-if="jobs.length" :pages="pages" :size="size" :shown="jobs.length" called="jobs" one="{1} job" many="{1} jobs" over="more than {1} jobs" />
    </template>
    <v-skeleton-loader v-else type="table-tbody" color="background" />
  </div>
</template>

<style scoped>
.list { margin-top: 16px; }
</style>
