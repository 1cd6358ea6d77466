<script setup lang="ts">
import { mdiAccountGroup, mdiAccountOutline, mdiChevronDown, mdiLaptop, mdiLogout, mdiMagnify, mdiThemeLightDark } from '@mdi/js'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useTheme } from 'vuetify'

import { api, type Bench } from './api/client'
import { every } from './every'
import FerryMark from './parts/FerryMark.vue'
import { session } from './session'
import { clock, say, zone } from './words'

const route = useRoute()
const router = useRouter()
const theme = useTheme()
const find = ref('')
const benches = ref<Bench[]>([])
const away = ref<Date | null>(null)

async function look() {
  if (!session.person) return
  try {
    const { data } = await api.GET('/api/benches')
    if (data) {
      benches.value = data.benches.filter((b) => !b.revoked)
      away.value = null
    }
  } catch {
    away.value ??= new Date()
  }
}

function search() {
  router.push({ path: '/units', query: { q: find.value } })
}

function toggle() {
  const next = theme.global.current.value.dark ? 'light' : 'dark'
  theme.change(next)
  localStorage.setItem('light', next)
}

async function leave() {
  await session.signOut()
  router.push('/sign-in')
}

every(5000, look)
router.afterEach(() => look())

// Pages that hang on another one, which the bar shows.
const under: Record<string, string[]> = { '/releases': ['/releases', '/models', '/inspect', '/keys', '/gear'], '/units': ['/units', '/card', '/sites'], '/today': ['/today', '/runs'], '/jobs': ['/jobs', '/trays'], '/benches': ['/benches', '/check', '/adapters'] }
const within = (to: string) => (under[to] ?? [to]).some((p) => route.path.startsWith(p))

const pages = [
  { to: '/today', word: 'Today' },
  { to: '/jobs', word: 'Jobs' },
  { to: '/units', word: 'Units' },
  { to: '/releases', word: 'Releases' },
  { to: '/benches', word: 'Benches' },
]
</script>

<template>
  <v-app>
    <a class="skip" href="#main">To the page</a>
    <v-app-bar v-if="session.person" flat height="56" color="surface" class="bar">
      <router-link to="/today" class="brand" aria-label="Zealous Ferry: today’s work"><FerryMark /><strong>Zealous Ferry</strong></router-link>
      <nav class="pages" aria-label="Pages">
        <router-link v-for="p in pages" :key="p.to" :to="p.to" :class="{ here: within(p.to) }" :aria-current="within(p.to) ? 'page' : undefined">{{ p.word }}</router-link>
      </nav>
      <v-spacer />
      <form class="find" role="search" @submit.prevent="search">
        <v-icon :icon="mdiMagnify" />
        <input v-model="find" type="search" aria-label="Find a unit" placeholder="Find a unit" />
      </form>
      <span v-if="away" class="bench brick"><v-icon :icon="mdiLaptop" /> {{ say('service out of reach since {1} {2}', clock(away), zone(away)) }}</span>
      <router-link v-else-if="benches[0]" to="/benches" class="bench">
        <v-icon :icon="mdiLaptop" /> <strong>{{ benches[0].name }}</strong>
        <span :class="benches[0].online ? 'muted' : 'brick'">{{ benches[0].online ? 'joined to the service' : 'out of touch' }}</span>
      </router-link>
      <v-menu>
        <template #activator="{ props }">
          <v-btn v-bind="props" variant="text" class="who" :append-icon="mdiChevronDown" :aria-label="say('Signed in as {1}', session.person.name)">
            <v-icon class="only-small" :icon="mdiAccountOutline" /><span class="name">{{ session.person.name }}</span>
          </v-btn>
        </template>
        <v-list min-width="220">
          <v-list-item :title="session.person.name" :subtitle="session.person.role" />
          <v-list-item :prepend-icon="mdiAccountGroup" title="Team, sessions, tokens" to="/people" data-team />
          <v-list-item :prepend-icon="mdiThemeLightDark" title="Light or dark" @click="toggle" />
          <v-list-item :prepend-icon="mdiLogout" title="Sign out" @click="leave" />
        </v-list>
      </v-menu>
    </v-app-bar>
    <v-main id="main"><router-view :key="route.fullPath.split('?')[0]" /></v-main>
  </v-app>
</template>

<style scoped>
.skip { position: absolute; left: -999px; }
.skip:focus { left: 8px; top: 8px; z-index: 3000; background: rgb(var(--v-theme-surface)); padding: 8px; }
.bar { border-bottom: 1px solid var(--line); }
.bar :deep(.v-toolbar__content) { padding: 0 24px; gap: 8px; }
.brand { display: flex; align-items: center; gap: 14px; font-size: 19px; text-decoration: none; color: inherit; margin-right: 16px; white-space: nowrap; }
.pages { display: flex; height: 56px; }
.pages a { color: inherit; text-decoration: none; padding: 0 16px; display: flex; align-items: center; border-bottom: 3px solid transparent; }
.pages a.here { font-weight: 700; border-color: rgb(var(--v-theme-primary)); }
.find { display: flex; align-items: center; gap: 8px; }
.find input { width: 130px; height: 44px; border: 0; background: none; color: inherit; font: inherit; }
.find input::placeholder { color: inherit; opacity: 1; }
.bench { display: flex; align-items: center; gap: 8px; color: inherit; text-decoration: none; margin: 0 8px; white-space: nowrap; min-height: 44px; }
.who { font-weight: 400; }
.only-small { display: none; }
@media (max-width: 1000px) { .find, .bench { display: none; } }
@media (max-width: 600px) {
  .bar :deep(.v-toolbar__content) { padding: 0 12px; gap: 0; }
  .brand strong, .who .name { display: none; }
  .brand { margin-right: 4px; }
  .only-small { display: inline-flex; }
  .pages a { padding: 0 6px; font-size: 15px; }
}
</style>
