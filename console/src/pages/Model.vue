<script setup lang="ts">
import { mdiAlert } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, problem, type ModelPage, type Problem } from '../api/client'
import AddressLine from '../parts/AddressLine.vue'
import FitMatrix from '../parts/FitMatrix.vue'
import ModelBulletins from '../parts/ModelBulletins.vue'
import ModelSecrets from '../parts/ModelSecrets.vue'
import SiteProfile from '../parts/SiteProfile.vue'
import NeedList from '../parts/NeedList.vue'
import Says from '../parts/Says.vue'
import Trouble from '../parts/Trouble.vue'
import TrySheet from '../parts/TrySheet.vue'
import { session } from '../session'
import { hex, kib, listed, say, sayOf, when } from '../words'

const props = defineProps<{ model: string }>()
const page = ref<ModelPage | null>(null)
const trouble = ref<Problem | null>(null)
const wrong = ref<Problem | null>(null)
const revision = ref('')
const version = ref('')
const reason = ref('')
const sheet = ref(false)
const link = String(useRoute().query.try ?? '') // a link on which the sheet is to be tried
const trying = ref(!!link)

async function load() {
  const { data, error } = await api.GET('/api/models/{model}', { params: { path: { model: props.model } } })
  if (error) trouble.value = problem(error)
  else page.value = data
}
load()

async function choose() {
  wrong.value = null
  const { error } = await api.POST('/api/targets', { body: { model: props.model, revision: revision.value, version: version.value, reason: reason.value } })
  if (error) {
    wrong.value = problem(error)
    return
  }
  reason.value = ''
  await load()
}
const versions = computed(() => [{ title: 'open again', value: '' }, ...(page.value?.matrix.rows.filter((r) => !r.withdrawn).map((r) => ({ title: r.version, value: r.version })) ?? [])])
</script>

<template>
  <div v-if="trouble" class="page"><Trouble :problem="trouble" /></div>
  <div v-else-if="page" class="page">
    <div class="row spread"><h1>{{ page.name }}</h1><router-link :to="`/units?model=${page.model}`">{{ sayOf('{1} unit in the register', '{1} units in the register', page.units) }}</router-link></div>
    <p class="lead"><Says text="{1}, {2} of memory. {3}" :put="{ 1: page.kind, 2: kib(page.bytes) }"><template v-if="page.newest" #3><Says text="Its newest stable release is {1}."><template #1><strong class="mono">{{ page.newest }}</strong></template></Says></template></Says></p>
    <p v-if="page.proven" class="small muted" data-proven>{{ page.proof.text }} {{ when(page.proven.at) }}</p>
    <p v-else data-proven><v-icon :icon="mdiAlert" size="18" class="brick" /> {{ page.proof.text }}</p>
    <p v-for="s in page.sisters" :key="s.text"><v-icon :icon="mdiAlert" size="18" class="brick" /> {{ s.text }}</p>
    <section class="gap"><h2>{{ say('What fits which {1}', page.matrix.fact) }}</h2><FitMatrix :matrix="page.matrix" /></section>
    <div class="columns gap">
      <section>
        <h2>Our choice</h2>
        <ul class="rows"><li v-for="t in page.targets" :key="t.revision"><strong>{{ page.matrix.fact }} {{ t.revision }}: <span class="mono">{{ t.version }}</span></strong> <strong v-if="t.withdrawn" class="brick">withdrawn, choose another</strong><div class="small muted">{{ t.by }}, {{ when(t.at) }}: {{ t.reason }}</div></li></ul>
        <p v-for="x in page.takenOut ?? []" :key="x.version + x.at" class="small muted">{{ say('{1} was taken out again by {2}, {3}: {4}', x.version, x.by, when(x.at), x.reason) }}</p>
        <p v-if="!page.targets.length" class="muted">None: the newest stable release that fits is recommended.</p>
        <form v-if="session.may('lead')" class="choose" @submit.prevent="choose">
          <div class="row"><v-select v-model="revision" :items="page.matrix.columns.map((c) => c.value)" :label="page.matrix.fact" /><v-select v-model="version" :items="versions" label="Release" /></div>
          <v-text-field v-model="reason" label="Why" />
          <Trouble v-if="wrong" :problem="wrong" />
          <v-btn type="submit" variant="outlined" :disabled="!revision || reason.length < 3">Choose it</v-btn>
        </form>
        <p v-else class="small muted">A lead chooses.</p>
        <template v-if="page.sets"><h2 class="gap">What its units come with</h2><SiteProfile kind="model" :of="page.model" /></template>
        <ModelSecrets v-if="page.secrets?.length" class="gap" :model="page.model" :secrets="page.secrets" @changed="load" />
      </section>
      <section>
        <h2>Memory</h2>
        <table v-if="page.sections.length > 1" class="plain" data-sections><tbody><tr v-for="(s, i) in page.sections" :key="s.name"><td class="muted">{{ i + 1 }}</td><td><strong>{{ s.title }}</strong></td><td class="size">{{ listed(s.files && say('up to {1} files', s.files), kib(s.bytes)) }}</td><td class="small">{{ s.link ? say('behind a link of its own, {1}', s.link) : s.loader }}</td></tr></tbody></table>
        <table v-if="page.holds.length" class="plain" data-holds><tbody><tr v-for="s in page.holds" :key="s.slot"><td><strong>{{ s.title }}</strong></td><td class="small">{{ say('holds a unit of {1}', s.models.join(', ')) }}</td><td class="small muted">{{ s.empty ? 'may be empty' : '' }}</td></tr></tbody></table>
        <AddressLine :segments="page.regions.filter((r) => !r.readOnly)" :regions="page.regions" />
        <table class="plain"><tbody><tr v-for="r in page.regions" :key="r.name"><td><strong>{{ r.name }}</strong> <span class="small muted">{{ r.use }}</span></td><td class="mono small">{{ hex(r.address) }}</td><td class="size">{{ kib(r.length) }}</td><td class="small">{{ r.readOnly ? 'never written' : '' }} {{ r.own ? "the unit's own" : '' }}</td></tr></tbody></table>
      </section>
      <section>
        <h2>Facts that releases ask for</h2>
        <ul class="rows"><li v-for="(f, name) in page.facts" :key="name"><strong>{{ String(name).replaceAll('-', ' ') }}</strong> <span class="muted">{{ f.values.join(', ') }}</span><div class="small">{{ f.ask }} <span class="muted">{{ f.look }}</span></div></li></ul>
        <template v-if="page.contradictions?.length"><h2 class="gap">Its procedures disagree</h2><ul class="rows"><li v-for="c in page.contradictions" :key="c.text"><v-icon :icon="mdiAlert" size="18" class="brick" /> {{ c.text }}</li></ul><p class="small muted">A lead settles it in the sheet; until then a run of such a unit is refused.</p></template>
        <template v-if="page.flaws.length"><h2 class="gap">Known flaws</h2><ul class="rows"><li v-for="f in page.flaws" :key="f"><v-icon :icon="mdiAlert" size="18" class="brick" /> {{ f }}</li></ul></template>
        <ModelBulletins class="gap" :model="page.model" :fact="page.matrix.fact" :values="page.matrix.columns.map((c) => c.value)" />
        <template v-if="page.wants.length"><h2 class="gap">Every job needs</h2><NeedList :needs="page.wants" /></template>
      </section>
    </div>
    <v-btn variant="text" class="gap" :aria-expanded="sheet" @click="sheet = !sheet">{{ sheet ? 'Hide the model sheet' : 'Show the model sheet' }}</v-btn>
    <pre v-if="sheet" class="sheet mono small">{{ page.sheetText }}</pre>
    <v-btn v-if="session.may('technician')" variant="text" class="gap" :aria-expanded="trying" data-open-try @click="trying = !trying">{{ trying ? 'Leave the trial' : 'Try the sheet on a unit' }}</v-btn>
    <TrySheet v-if="trying" :text="page.sheetText" :link="link" @changed="load" />
  </div>
  <div v-else class="page"><v-skeleton-loader type="article, table-tbody" color="background" /></div>
</template>

<style scoped>
.gap { margin-top: 20px; }
.size { white-space: nowrap; }
.choose { display: grid; gap: 12px; margin-top: 12px; }
.choose .row { flex-wrap: nowrap; }
.sheet { background: rgb(var(--v-theme-surface)); border: 1px solid var(--line); border-radius: 8px; padding: 16px; overflow-x: auto; }
</style>
