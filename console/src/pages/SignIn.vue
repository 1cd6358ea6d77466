<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, problem, type Problem } from '../api/client'
import FerryMark from '../parts/FerryMark.vue'
import Trouble from '../parts/Trouble.vue'
import { canHave, declined, signIn } from '../passkeys'
import { session } from '../session'
import { say } from '../words'

const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const busy = ref(false)
const factor = ref('')
const wanted = ref<Proof | null>(null) // waits for the second factor
const trouble = ref<Problem | null>(null)

type Proof = { code: string } | { name: string; password: string } | { state: string; passkey: unknown } | { state: string; provider: { code: string; state: string } }

// The team's identity provider, if it has one. What belongs to the sign-in that this tab has begun
// waits here until the provider sends the browser back.
const provider = ref('')
const kept = 'ferry-provider'
async function leave() {
  busy.value = true
  trouble.value = null
  try {
    const { data, error } = await api.POST('/api/session/provider')
    if (error) throw error
    sessionStorage.setItem(kept, JSON.stringify({ state: data.state, to: route.query.to }))
    location.assign(data.address)
  } catch (e) {
    trouble.value = problem(e)
    busy.value = false
  }
}
let to: unknown = route.query.to

async function withPasskey() {
  trouble.value = null
  try {
    await enter(await signIn())
  } catch (e) {
    if (!declined(e)) trouble.value = problem(e)
  }
}
async function enter(body: Proof) {
  busy.value = true
  trouble.value = null
  try {
    const { data, error } = await api.POST('/api/session', { body: { ...body, ...(factor.value && { factor: factor.value }) } })
    if (error) {
      wanted.value = wanted.value ?? (problem(error).kind === 'cannot-tell' ? body : null)
      if (problem(error).kind === 'cannot-tell' && !factor.value) {
        busy.value = false
        return
      }
      throw error
    }
    session.person = data
    session.asked = true
    router.replace(typeof to === 'string' && to.startsWith('/') && !to.startsWith('//') ? to : '/today')
  } catch (e) {
    trouble.value = problem(e)
  }
  busy.value = false
}

onMounted(async () => {
  const answer = new URLSearchParams(location.search)
  const begun = sessionStorage.getItem(kept)
  if (begun && answer.has('state')) {
    sessionStorage.removeItem(kept)
    history.replaceState(history.state, '', location.pathname) // the code is good once; it need not be seen
    const was = JSON.parse(begun) as { state: string; to?: unknown }
    to = was.to
    if (answer.has('code')) return enter({ state: was.state, provider: { code: answer.get('code')!, state: answer.get('state')! } })
    trouble.value = { title: 'Not signed in', status: 403, detail: answer.get('error') ? say('The identity provider says: {1}.', answer.get('error_description') ?? answer.get('error')) : 'The identity provider gave no reason.' } as Problem
  }
  provider.value = (await api.GET('/api/session/provider')).data?.name ?? ''
  // The code stands in the fragment, which no server and no log sees.
  const code = location.hash.slice(1)
  if (!code) return
  history.replaceState(history.state, '', location.pathname + location.search)
  enter({ code })
})
</script>

<template>
  <div class="door">
    <h1><FerryMark /> Zealous Ferry</h1>
    <p class="muted">Firmware service of the team. Sign in with the link that a lead gave you, or with name and password.</p>
    <Trouble v-if="trouble" :problem="trouble" />
    <form v-if="wanted" @submit.prevent="enter(wanted)">
      <v-text-field v-model="factor" label="The six digits of your second factor" inputmode="numeric" autocomplete="one-time-code" autofocus data-factor />
      <v-btn type="submit" color="primary" :loading="busy" :disabled="factor.length !== 6" block>Sign in</v-btn>
    </form>
    <form v-else @submit.prevent="enter({ name, password })">
      <v-text-field v-model="name" label="Name" autocomplete="username" />
      <v-text-field v-model="password" label="Password" type="password" autocomplete="current-password" />
      <v-btn type="submit" color="primary" :loading="busy" block>Sign in</v-btn>
      <v-btn v-if="canHave()" variant="outlined" :disabled="busy" block data-passkey @click="withPasskey">With a passkey</v-btn>
      <v-btn v-if="provider" variant="outlined" :disabled="busy" block data-provider @click="leave">{{ say('With {1}', provider) }}</v-btn>
    </form>
  </div>
</template>

<style scoped>
.door { max-width: 420px; margin: 10vh auto; padding: 16px; display: grid; gap: 16px; }
h1 { display: flex; gap: 14px; align-items: center; }
form { display: grid; gap: 16px; }
</style>
