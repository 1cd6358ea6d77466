<script setup lang="ts">
// The team: who is in it, what each may do, where each is signed in. Leads see and change all
// of it, everybody his own.
import { mdiAccountOff, mdiAccountPlus, mdiKeyOutline, mdiWeb } from '@mdi/js'
import { computed, reactive, ref } from 'vue'

import { api, problem, type Access, type Member, type Problem } from '../api/client'
import { allBenches, allPeople, allSites } from '../lists'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import { add, canHave, confirm, declined } from '../passkeys'
import { session } from '../session'
import { cap, say, when } from '../words'

const people = ref<Member[] | null>(null)
const trouble = ref<Problem | null>(null)
const inviting = ref(false)
const newcomer = reactive({ name: '', role: 'technician' as Member['role'], email: '' })
const link = ref<{ for: string; text: string; until: string } | null>(null)
const ending = ref<Member | null>(null)
const reason = ref('')
const making = ref(false)
const wanted = reactive({ name: '', scope: 'work' as 'read' | 'work' | 'catalogue' | 'whole', days: 30, sites: [] as string[], benches: [] as string[] })
const made = ref<{ name: string; token: string; until: string } | null>(null)

const factor = ref<{ picture: string; secret: string } | null>(null)
const digits = ref('')
const shown = ref('')

const siteNames = ref<string[]>([]) // at which a technician may work
const mySites = ref<string[]>([]) // to which a token of one's own may be bound
const benchNames = ref<string[]>([])

const lead = computed(() => session.may('lead'))
const me = computed(() => people.value?.find((p) => p.id === session.person?.id))
const scopes = [{ title: 'look', value: 'read' }, { title: 'what a technician does', value: 'work' }, { title: 'keep the catalogue', value: 'catalogue' }, { title: 'all that I may', value: 'whole' }]
const scopeWords: Record<string, string> = { read: 'may look', work: 'may do what a technician does', catalogue: 'may keep the catalogue', whole: 'may do all of it', '': '' }

async function load() {
  try {
    people.value = await allPeople()
  } catch (e) {
    trouble.value = problem(e)
  }
  const names = (await allSites()).map((s) => s.name)
  if (lead.value) siteNames.value = names
  mySites.value = me.value?.sites?.length ? me.value.sites : names
  benchNames.value = (await allBenches().catch(() => [])).map((b) => b.name)
}
load()

async function done(error: unknown) {
  trouble.value = error ? problem(error) : null
  await load()
}
function linkOf(code: string) {
  return `${location.origin}/sign-in#${code}`
}
async function invite() {
  const { data, error } = await api.POST('/api/people', { body: { name: newcomer.name, role: newcomer.role, ...(newcomer.email && { email: newcomer.email }) } })
  if (data) {
    link.value = { for: data.name, text: linkOf(data.code), until: when(data.expires) }
    inviting.value = false
    newcomer.name = newcomer.email = ''
  }
  await done(error)
}
async function newLink(p: Member) {
  const { data, error } = await api.POST('/api/people/{person}/link', { params: { path: { person: p.id } } })
  if (data) link.value = { for: p.name, text: linkOf(data.code), until: when(data.expires) }
  await done(error)
}
async function role(p: Member, to: Member['role']) {
  const { error } = await api.POST('/api/people/{person}', { params: { path: { person: p.id } }, body: { role: to } })
  await done(error)
}
async function works(p: Member, at: string[]) {
  const { error } = await api.POST('/api/people/{person}', { params: { path: { person: p.id } }, body: { sites: at } })
  await done(error)
}
async function end() {
  const { error } = await api.POST('/api/people/{person}/end', { params: { path: { person: ending.value!.id } }, body: { reason: reason.value } })
  ending.value = null
  reason.value = ''
  await done(error)
}
async function endAccess(x: Access) {
  const { error } = await api.POST('/api/access/{id}/end', { params: { path: { id: x.id } } })
  await done(error)
}
async function setUp() {
  const { data, error } = await api.POST('/api/session/factor')
  if (data) factor.value = data
  await done(error)
}
async function showCode() {
  const { error } = await api.POST('/api/session/confirm', { body: { code: digits.value } })
  if (!error) {
    shown.value = factor.value ? 'From now on signing in wants it too.' : 'For five minutes it is sure that it is you.'
    factor.value = null
  }
  digits.value = ''
  await done(error)
}
const password = reactive({ old: '', new: '', set: '' })
async function setPassword() {
  const { error } = await api.POST('/api/session/password', { body: { new: password.new, ...(password.old && { old: password.old }) } })
  if (!error) {
    password.set = 'It is set. Whoever was signed in as you elsewhere is signed out.'
    password.old = password.new = ''
  }
  await done(error)
}
const device = ref('')
async function addPasskey() {
  try {
    await done(await add(device.value))
    device.value = ''
  } catch (e) {
    if (!declined(e)) trouble.value = problem(e)
  }
}
async function sureByPasskey() {
  try {
    const error = await confirm()
    if (!error) shown.value = 'For five minutes it is sure that it is you.'
    await done(error)
  } catch (e) {
    if (!declined(e)) trouble.value = problem(e)
  }
}
async function endPasskey(id: string) {
  const { error } = await api.POST('/api/passkeys/{id}/end', { params: { path: { id } } })
  await done(error)
}
async function lost(p: Member) {
  const { error } = await api.POST('/api/people/{person}/factor/end', { params: { path: { person: p.id } }, body: { reason: 'its device is lost' } })
  await done(error)
}
async function makeToken() {
  const { data, error } = await api.POST('/api/access/tokens', { body: { name: wanted.name, scope: wanted.scope, days: Number(wanted.days), ...(wanted.scope === 'work' && { sites: wanted.sites, benches: wanted.benches }) } })
  if (data) {
    made.value = { name: wanted.name, token: data.token, until: when(data.ends!) }
    making.value = false
    wanted.name = ''
  }
  await done(error)
}
</script>

<template>
  <div class="page">
    <div class="row spread">
      <h1>The team</h1>
      <div class="row">
        <v-btn variant="outlined" to="/let-in" data-let-in>Let a machine in…</v-btn>
        <v-btn v-if="lead" variant="outlined" to="/audit" data-audit>What was done</v-btn>
        <v-btn v-if="lead" color="primary" :prepend-icon="mdiAccountPlus" data-invite @click="inviting = !inviting">Invite somebody</v-btn>
      </div>
    </div>
    <Trouble v-if="trouble" :problem="trouble" />
    <div v-if="link" class="once" data-once><Says text="{1} It signs in once, until {2}. It is shown now, and never again:" :put="{ 2: link.until }"><template #1><strong>{{ say('A link for {1}.', link.for) }}</strong></template></Says><div class="mono text">{{ link.text }}</div></div>
    <div v-if="made" class="once" data-made><Says text="{1}, until {2}. It is shown now, and never again; a script finds it as FERRY_TOKEN:" :put="{ 2: made.until }"><template #1><strong>{{ say('The token “{1}”', made.name) }}</strong></template></Says><div class="mono text">{{ made.token }}</div></div>
    <form v-if="inviting" class="add" @submit.prevent="invite">
      <v-text-field v-model="newcomer.name" label="Name" data-new-name />
      <v-select v-model="newcomer.role" :items="['technician', 'lead', 'viewer']" label="Role" />
      <v-text-field v-model="newcomer.email" label="E-mail (may be empty)" type="email" />
      <v-btn type="submit" color="primary" :disabled="newcomer.name.trim().length < 2" data-new-go>Make the link</v-btn>
    </form>
    <ul v-if="people" class="rows people">
      <li v-for="p in people" :key="p.id" :class="{ gone: p.ended }" :data-person="p.name">
        <div class="row spread">
          <div><strong class="name">{{ p.name }}</strong> <span class="muted">{{ p.role }}<template v-if="p.email">, {{ p.email }}</template></span>
            <div v-if="p.sites?.length" class="small">{{ say('Works at {1}', p.sites.join(', ')) }}</div>
            <div v-if="p.ended" class="small">{{ say('Account ended {1}; the name stays in history.', when(p.ended)) }}</div>
            <div v-else-if="p.waits" class="small">Invited; has not signed in yet.</div></div>
          <div v-if="lead && !p.ended" class="row">
            <v-select :model-value="p.role" :items="['technician', 'lead', 'viewer']" label="Role" hide-details density="compact" class="role" :data-role="p.name" @update:model-value="(r: Member['role']) => role(p, r)" />
            <v-select v-if="p.role === 'technician' && siteNames.length" :model-value="p.sites ?? []" :items="siteNames" multiple label="Works at" placeholder="everywhere" persistent-placeholder hide-details density="compact" class="sites" :data-sites="p.name" @update:model-value="(s: string[]) => works(p, s)"><template #selection="{ index }"><span v-if="index === 0">{{ p.sites!.length === 1 ? p.sites![0] : say('{1} sites', p.sites!.length) }}</span></template></v-select>
            <v-btn v-if="p.factor && p.id !== me?.id" variant="text" :data-lost="p.name" @click="lost(p)">Factor lost</v-btn>
            <v-btn variant="text" :data-link="p.name" @click="newLink(p)">New link</v-btn>
            <v-btn variant="text" color="error" :prepend-icon="mdiAccountOff" :data-end="p.name" @click="ending = p">End account…</v-btn>
          </div>
        </div>
        <ul v-if="p.access.length" class="access">
          <li v-for="x in p.access" :key="x.id" class="row spread">
            <span><v-icon :icon="x.kind === 'token' ? mdiKeyOutline : mdiWeb" size="18" /> {{ x.kind === 'token' ? say('token {1}', x.name ?? '') : x.current ? 'signed in, here' : 'signed in' }}<span class="small muted seen">{{ [scopeWords[x.scope ?? ''], x.sites?.length ? say('at {1}', x.sites.join(', ')) : '', x.benches?.length ? say('on {1}', x.benches.join(', ')) : '', x.seen ? say('used {1}', when(x.seen)) : 'never used', x.ends ? say('ends {1}', when(x.ends)) : 'no end', x.from].filter(Boolean).join(' · ') }}</span></span>
            <v-btn variant="text" size="small" :data-end-access="x.id" @click="endAccess(x)">End it</v-btn>
          </li>
        </ul>
      </li>
    </ul>
    <template v-if="me">
      <h2 class="gap">Your password</h2>
      <p v-if="password.set" class="teal" data-password-set><strong>{{ password.set }}</strong></p>
      <p v-else-if="!me.password" class="small">None yet: you sign in by links that leads make, and this sign-in ends by itself. A first one is set within a quarter of an hour after a link.</p>
      <form class="row own" @submit.prevent="setPassword">
        <v-text-field v-if="me.password" v-model="password.old" label="The one you have" type="password" autocomplete="current-password" hide-details class="secret" data-password-old />
        <v-text-field v-model="password.new" label="A new one: several words" type="password" autocomplete="new-password" hide-details class="secret" data-password-new />
        <v-btn type="submit" variant="outlined" :disabled="password.new.length < 12" data-password-go>{{ me.password ? 'Change it' : 'Set it' }}</v-btn>
        <span v-if="password.new && password.new.length < 12" class="small muted">{{ say('{1} more', 12 - password.new.length) }}</span>
      </form>
      <h2 class="gap">Your passkeys</h2>
      <p class="small">A passkey signs you in with what opens this device: a finger, a face, its number. It stands for password and second factor.</p>
      <ul v-if="me.passkeys?.length" class="access">
        <li v-for="k in me.passkeys" :key="k.id" class="row spread" :data-passkey-of="k.name"><span><v-icon :icon="mdiKeyOutline" size="18" /> {{ k.name }}<span class="small muted seen">{{ k.used ? say('used {1}', when(k.used)) : say('added {1}', when(k.created)) }}</span></span><v-btn variant="text" size="small" data-passkey-end @click="endPasskey(k.id)">Take it away</v-btn></li>
      </ul>
      <p v-if="me.passkeys?.length && canHave()" class="row"><v-btn variant="outlined" data-passkey-sure @click="sureByPasskey">It is me, by passkey</v-btn></p>
      <form v-if="canHave()" class="row own" @submit.prevent="addPasskey">
        <v-text-field v-model="device" label="Which device this is" hide-details class="secret" data-passkey-name />
        <v-btn type="submit" variant="outlined" :disabled="!device.trim()" data-passkey-add>Add one</v-btn>
      </form>
      <p v-else class="small muted">Browsers keep passkeys for a name with TLS; here there is none.</p>
      <h2 class="gap">Your second factor</h2>
      <p v-if="shown" class="teal" data-shown><strong>{{ shown }}</strong></p>
      <div v-if="factor" class="factor" data-factor-new>
        <img :src="factor.picture" width="220" height="220" alt="QR code of the second factor" />
        <div><p>Read this with the program that shows your codes, or type the secret:</p><p class="mono text">{{ factor.secret }}</p><p>Then type the six digits that it shows.</p></div>
      </div>
      <p v-else-if="!me.factor" class="small">None yet: whoever knows your password, or gets hold of a link for you, is you.</p>
      <form class="row" @submit.prevent="showCode">
        <v-btn v-if="!factor" variant="outlined" data-factor-set @click="setUp">{{ me.factor ? 'Set up another' : 'Set one up' }}</v-btn>
        <template v-if="factor || me.factor"><v-text-field v-model="digits" label="The six digits" inputmode="numeric" autocomplete="one-time-code" maxlength="6" hide-details class="days" data-digits /><v-btn type="submit" variant="outlined" :disabled="digits.length !== 6" data-show>{{ factor ? 'That is what it shows' : 'It is me' }}</v-btn></template>
      </form>
      <h2 class="gap">Tokens of your own</h2>
      <p class="small">For scripts. On a machine that you work at, <span class="mono">ferry sign-in</span> is simpler.</p>
      <form class="row token" @submit.prevent="makeToken">
        <v-text-field v-model="wanted.name" label="What it is for" hide-details data-token-name />
        <v-select v-model="wanted.scope" :items="scopes" label="It may" hide-details />
        <v-select v-if="wanted.scope === 'work' && mySites.length" v-model="wanted.sites" :items="mySites" multiple label="At these sites alone" placeholder="all" persistent-placeholder hide-details data-field="token-sites" />
        <v-select v-if="wanted.scope === 'work' && benchNames.length" v-model="wanted.benches" :items="benchNames" multiple label="At these benches alone" placeholder="all" persistent-placeholder hide-details data-field="token-benches" />
        <v-text-field v-model="wanted.days" type="number" min="1" max="365" label="Days" hide-details class="days" />
        <v-btn type="submit" variant="outlined" :disabled="wanted.name.trim().length < 2" data-token-go>Make it</v-btn>
      </form>
    </template>
    <v-dialog :model-value="!!ending" max-width="520" @update:model-value="ending = null">
      <form class="ask" @submit.prevent="end"><h2>{{ say('End the account of {1}?', ending?.name) }}</h2><p>{{ cap('sessions, tokens and links end at once, live pages within seconds. What was done stays in history, with the name.') }}</p><v-text-field v-model="reason" label="Why" autofocus data-end-why /><div class="row"><v-btn type="submit" color="error" :disabled="reason.trim().length < 3" data-end-go>End it</v-btn><v-btn variant="text" @click="ending = null">Leave it</v-btn></div></form>
    </v-dialog>
  </div>
</template>

<style scoped>
.gap { margin-top: 24px; }
.add { display: grid; gap: 12px; max-width: 480px; margin: 16px 0; }
.once { background: rgb(var(--v-theme-surface)); border: 2px solid rgb(var(--v-theme-primary)); border-radius: 8px; padding: 14px 16px; margin: 12px 0; }
.text { overflow-wrap: anywhere; margin-top: 6px; user-select: all; }
.people { margin-top: 16px; }
.people > li { padding: 12px 0; }
.name { font-size: 18px; }
.gone { opacity: 0.7; }
.role { width: 150px; }
.sites { width: 190px; }
.access { list-style: none; padding: 0 0 0 12px; border-left: 3px solid var(--line); margin-top: 6px; }
.access li { flex-wrap: nowrap; }
.seen { margin-left: 8px; }
.factor { display: flex; gap: 20px; align-items: center; flex-wrap: wrap; margin: 8px 0; }
.page form.row { margin-top: 8px; }
.secret { min-width: 260px; max-width: 360px; }
.own { flex-wrap: wrap; gap: 12px; align-items: center; }
.factor img { background: white; padding: 8px; border-radius: 6px; }
.days { max-width: 180px; }
.token > * { max-width: 260px; }
.token .days { max-width: 110px; }
.ask { background: rgb(var(--v-theme-surface)); border-radius: 8px; padding: 24px; display: grid; gap: 14px; }
</style>
