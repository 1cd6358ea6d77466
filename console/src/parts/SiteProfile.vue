<script setup lang="ts">
// What the units of a site have, or those of a model come with: it fills what a run would
// otherwise ask.
import { computed, reactive, ref, watch } from 'vue'

import { api, problem, type Problem, type Profile } from '../api/client'
import { session } from '../session'
import { when } from '../words'
import Trouble from './Trouble.vue'

const props = defineProps<{ kind: 'site' | 'model'; of: string }>()
const profile = ref<Profile | null>(null)
const wrong = ref<Problem | null>(null)
const to = reactive<Record<string, string>>({})
const busy = ref(false)

function take(p: Profile) {
  profile.value = p
  for (const a of p.asks) to[a.name] = ''
  for (const v of p.values) to[v.name] = v.secret ? '' : v.value
}
async function load() {
  const { data, error } = await api.GET('/api/profiles', { params: { query: { kind: props.kind, of: props.of } } })
  if (error) wrong.value = problem(error)
  else take(data)
}
watch(() => props.of, load, { immediate: true })
const has = computed(() => Object.fromEntries((profile.value?.values ?? []).map((v) => [v.name, v])))
const asks = computed(() => {
  const p = profile.value
  if (!p) return []
  const extra = p.values.filter((v) => !p.asks.some((a) => a.name === v.name)).map((v) => ({ name: v.name, title: v.name, models: 'no sheet looks for it now', secret: v.secret }))
  return [...p.asks, ...extra]
})
const changed = computed(() => Object.fromEntries(Object.entries(to).filter(([name, v]) => (has.value[name]?.secret ? v !== '' : v !== (has.value[name]?.value ?? '')))))

async function put(values: Record<string, string>) {
  busy.value = true
  wrong.value = null
  const { data, error } = await api.POST('/api/profiles', { body: { kind: props.kind, of: props.of, values } })
  if (error) wrong.value = problem(error)
  else take(data)
  busy.value = false
}
</script>

<template>
  <form class="profile" data-profile @submit.prevent="put(changed)">
    <p class="small muted">It fills what a run would otherwise ask: what is new, what everybody knows, what a unit cannot have. What differs is shown before anything is written.</p>
    <div v-for="a in asks" :key="a.name" class="one">
      <v-text-field v-model="to[a.name]" :label="`${a.title} (${a.name})`" :type="a.secret ? 'password' : 'text'" autocomplete="off" :placeholder="a.secret && has[a.name] ? 'kept sealed; type another' : ''" :disabled="!session.may('technician')" :data-profile-of="a.name" hide-details />
      <span class="small muted">{{ a.models }}<template v-if="has[a.name]">; {{ has[a.name]!.by }}, {{ when(has[a.name]!.at) }}</template></span>
      <v-btn v-if="has[a.name]?.secret && session.may('technician')" variant="text" size="small" @click="put({ [a.name]: '' })">Take it out</v-btn>
    </div>
    <p v-if="profile && !asks.length" class="muted">No sheet looks for anything here yet.</p>
    <Trouble v-if="wrong" :problem="wrong" />
    <div v-if="session.may('technician') && asks.length" class="row"><v-btn type="submit" variant="outlined" :disabled="!Object.keys(changed).length" :loading="busy" data-put-profile>Keep it</v-btn></div>
  </form>
</template>

<style scoped>
.profile { display: grid; gap: 10px; }
.one { display: grid; gap: 2px; }
</style>
