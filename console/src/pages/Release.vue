<script setup lang="ts">
import { mdiAlertOctagon, mdiCheckDecagram, mdiShieldAlertOutline } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, problem, type Problem, type ReleasePage } from '../api/client'
import AddressLine from '../parts/AddressLine.vue'
import DigestText from '../parts/DigestText.vue'
import FleetRehearsal from '../parts/FleetRehearsal.vue'
import NeedList from '../parts/NeedList.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import { session } from '../session'
import { channels, formats, hex, kib, say, sayOf, when } from '../words'

const props = defineProps<{ release: string }>()
const router = useRouter()
const page = ref<ReleasePage | null>(null)
const trouble = ref<Problem | null>(null)
const wrong = ref<Problem | null>(null)
const asking = ref<'' | 'withdraw' | 'accept' | 'take-out'>('')
const reason = ref('')
const busy = ref(false)

async function load() {
  const { data, error } = await api.GET('/api/releases/{release}', { params: { path: { release: props.release } } })
  if (error) trouble.value = problem(error)
  else page.value = data
}
load()

async function put() {
  busy.value = true
  wrong.value = null
  const call = { params: { path: { release: page.value!.id } }, body: { reason: reason.value } }
  if (asking.value === 'take-out') {
    const { error } = await api.POST('/api/releases/{release}/take-out', call)
    busy.value = false
    if (error) wrong.value = problem(error)
    else router.push('/releases')
    return
  }
  const { error } = asking.value === 'withdraw' ? await api.POST('/api/releases/{release}/withdraw', call) : await api.POST('/api/releases/{release}/accept', call)
  busy.value = false
  if (error) {
    wrong.value = problem(error)
    return
  }
  asking.value = ''
  reason.value = ''
  await load()
}

const state = computed(() => page.value?.now.text ?? '')
const packing = computed(() => `ferry release pack OUT.zip ${page.value?.model}@${page.value?.version} --series NAME --number N --key FILE`)
const command = computed(() => `ferry release sign ${page.value?.model}@${page.value?.version} --key FILE`)
</script>

<template>
  <div v-if="trouble" class="page"><Trouble :problem="trouble" /></div>
  <template v-else-if="page">
    <div v-if="page.withdrawn" class="board bg-stop" role="status">
      <v-icon :icon="mdiAlertOctagon" size="44" />
      <div><strong class="big">{{ say('Withdrawn: {1}', page.withdrawn.reason) }}</strong><p>{{ say('{1}. No bench begins to write it.', when(page.withdrawn.at)) }} {{ sayOf('{1} unit says that it runs it.', '{1} units say that they run it.', page.unitsTotal) }}</p></div>
    </div>
    <div class="page">
      <div class="row spread">
        <div><h1><router-link :to="`/models/${page.model}`">{{ page.modelName }}</router-link> <span class="mono">{{ page.version }}</span></h1><p class="lead"><strong>{{ state }}</strong> {{ [page.number, page.withdrawn ? '' : channels[page.channel]].filter(Boolean).join(', ') }}</p></div>
        <div v-if="session.may('lead')" class="row">
          <v-btn v-if="page.trust?.state === 'not-vouched'" variant="outlined" data-accept @click="asking = 'accept'">Accept it by name…</v-btn>
          <v-btn v-if="!page.withdrawn" variant="outlined" color="error" data-withdraw @click="asking = 'withdraw'">Withdraw…</v-btn>
          <v-btn v-if="!page.unitsTotal" variant="text" data-take-out @click="asking = 'take-out'">Take it out…</v-btn>
        </div>
        <p v-else class="small muted">A lead accepts and withdraws.</p>
      </div>
      <dl class="what">
        <template v-if="page.cures?.en"><dt>Cures</dt><dd>{{ page.cures.en }}</dd></template>
        <template v-if="page.changes?.en"><dt>Looks different</dt><dd>{{ page.changes.en }}</dd></template>
        <dt>Fits</dt><dd>{{ page.ruleTexts.map((r) => r.text).join(' · ') || 'every unit of the model' }}</dd>
        <template v-if="page.reachedFrom"><dt>Reached from</dt><dd>{{ page.reachedFrom }}</dd></template>
        <template v-if="page.supersedes?.length"><dt>Supersedes</dt><dd class="mono">{{ page.supersedes.join(', ') }}</dd></template>
        <template v-if="page.supersededBy.length"><dt>Then came</dt><dd class="mono">{{ page.supersededBy.join(', ') }}</dd></template>
        <template v-if="page.floor"><dt>Afterwards</dt><dd><Says text="nothing older than {1} may follow"><template #1><span class="mono">{{ page.floor }}</span></template></Says></dd></template>
        <template v-for="t in page.targets" :key="t.revision"><dt>Our choice</dt><dd>{{ say('for revision {1}, {2}, {3}: {4}', t.revision, t.by, when(t.at), t.reason) }}</dd></template>
      </dl>
      <h2 class="gap">Parts in memory</h2>
      <AddressLine :segments="page.places.filter((p) => p.to > p.from).map((p) => ({ address: p.from, length: p.to - p.from, name: say('part {1}', p.name) }))" :regions="page.regions" />
      <table class="plain">
        <thead><tr><th>Part</th><th>At</th><th>Region</th><th>Size</th><th>File</th><th>SHA-256</th><th /></tr></thead>
        <tbody>
          <tr v-for="p in page.places" :key="p.name">
            <td><strong>{{ p.name }}</strong></td><td v-if="p.to > p.from" class="mono small">{{ say('{1} to {2}', hex(p.from), hex(p.to - 1)) }}</td><td v-else class="small">files</td>
            <td>{{ p.regions.join(', ') }} <strong v-if="p.loader" class="brick">writes the boot loader</strong></td><td>{{ kib(p.bytes) }}</td>
            <td>{{ p.file }} <span class="small muted">{{ formats[p.format] }}</span></td><td><DigestText :digest="p.image" /><a v-if="session.may('technician')" :href="`/api/images/${p.image}`" :download="p.file" class="small" data-image>Take it out as a file</a></td>
            <td class="small"><span v-if="p.agrees === 'published'" class="teal">as its maker publishes</span><span v-else class="muted">no published checksum</span></td>
          </tr>
        </tbody>
      </table>
      <FleetRehearsal v-if="session.may('lead') && !page.withdrawn" :key="page.id" :release="page.id" :version="page.version" />
      <div class="columns gap">
        <section>
          <h2>Who vouches for it</h2>
          <p class="vouch" :class="page.trust?.state"><v-icon :icon="page.trust?.state === 'not-vouched' ? mdiShieldAlertOutline : mdiCheckDecagram" /> <strong>{{ page.trust?.text }}</strong></p>
          <ul class="rows"><li v-for="w in page.trust?.vouches" :key="w.how + w.who"><strong>{{ w.who || 'nobody by name' }}</strong> <span class="muted">{{ { signature: 'signed the release', pack: 'signed a pack', person: 'accepted it', before: 'from before' }[w.how] }}</span><div class="small">{{ when(w.dated) }}<template v-if="w.reason">, {{ w.reason }}</template> <span v-if="!w.counts" class="brick">{{ w.bars }}</span></div></li></ul>
          <template v-if="session.may('lead')"><p class="small">Sign it, or pack it for another team, where the key is; the key never comes here:</p><p class="mono small command">{{ command }}</p><p class="mono small command">{{ packing }}</p></template>
          <h2 v-if="page.originTexts.length" class="gap">Where it came from</h2>
          <ul class="rows"><li v-for="o in page.originTexts" :key="o.text">{{ o.text }}</li></ul>
        </section>
        <section>
          <h2>What a job with it needs</h2>
          <NeedList v-if="page.needs.length" :needs="page.needs" /><p v-else class="muted">Nothing beside what every job needs.</p>
        </section>
        <section>
          <h2>{{ say('Where it runs, {1}', page.unitsTotal) }}</h2>
          <ul class="rows"><li v-for="u in page.units" :key="u.id" class="row spread"><router-link :to="`/units/${u.id}`" class="mono">{{ u.serial }}</router-link><span class="small muted">{{ u.site }}</span></li></ul>
          <p v-if="!page.unitsTotal" class="muted">In no unit of the register.</p>
          <p v-if="page.unitsTotal > page.units.length" class="small"><router-link :to="`/units?model=${page.model}&q=${page.version}`">{{ say('All {1}', page.unitsTotal) }}</router-link></p>
        </section>
      </div>
    </div>
    <v-dialog :model-value="asking !== ''" max-width="560" @update:model-value="asking = ''">
      <v-card class="ask">
        <h2>{{ asking === 'take-out' ? say('Take {1} out again?', page.version) : asking === 'withdraw' ? say('Withdraw {1}?', page.version) : say('Vouch for {1} by your name?', page.version) }}</h2>
        <p v-if="asking === 'take-out'">It was entered wrongly and nobody has used it: its version is free again. That it was there stays known.</p>
        <p v-else-if="asking === 'withdraw'">{{ sayOf('{1} unit runs it; it stays on this page. Benches hear of it before their next run, and a run at work before its first erase.', '{1} units run it; they stay on this page. Benches hear of it before their next run, and a run at work before its first erase.', page.unitsTotal) }}</p>
        <p v-else>No trusted key has signed its images. With your word they are offered; it stands beside the release.</p>
        <v-text-field v-model="reason" label="Why (everybody reads it)" autofocus data-reason />
        <Trouble v-if="wrong" :problem="wrong" />
        <div class="row"><v-btn :color="asking === 'withdraw' ? 'error' : 'primary'" :loading="busy" :disabled="reason.length < 3" data-say @click="put">{{ asking === 'take-out' ? 'Take it out' : asking === 'withdraw' ? 'Withdraw it' : 'I vouch for it' }}</v-btn><v-btn variant="text" @click="asking = ''">Leave it as it is</v-btn></div>
      </v-card>
    </v-dialog>
  </template>
  <div v-else class="page"><v-skeleton-loader type="article, table-tbody" color="background" /></div>
</template>

<style scoped>
.board { display: flex; gap: 20px; align-items: center; padding: 20px 24px; }
.big { font-size: 28px; line-height: 1.2; }
.gap { margin-top: 20px; }
.what { display: grid; grid-template-columns: 140px minmax(0, 75ch); gap: 6px 16px; margin-top: 12px; }
dt { color: var(--muted); }
.vouch { display: flex; gap: 8px; padding: 8px 0; }
.vouch.signed, .vouch.accepted { color: rgb(var(--v-theme-secondary)); }
.vouch.not-vouched { color: rgb(var(--v-theme-error)); }
.command + .command { margin-top: 6px; }
.command { background: rgb(var(--v-theme-surface-light)); padding: 8px 12px; border-radius: 4px; overflow-wrap: anywhere; }
.ask { padding: 24px; display: grid; gap: 14px; }
@media (max-width: 900px) { table.plain { display: block; overflow-x: auto; } }
@media (max-width: 600px) { .what { grid-template-columns: minmax(0, 1fr); gap: 0; } .what dd { margin-bottom: 8px; } }
</style>
