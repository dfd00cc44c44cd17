<script setup lang="ts">
// Sign-in routes in order, and which of them decides for somebody.
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type RouteTried } from '../api'
import { useActing, useReading } from '../api/asking'
import Story from './Story.vue'
import Asked from './Asked.vue'

const { t } = useI18n()
const ask = ref({ gate: 'console', address: '', agent: navigator.userAgent, name: '', draft: false })
const tried = ref<RouteTried>()

const reading = useReading(async () => {
  const both = await Promise.all([got(api.GET('/routes')), got(api.GET('/gates'))])
  const [first] = both[1]
  // A gate with a choice of ways in is where routes show.
  if (ask.value.gate === 'console' && first) ask.value.gate = both[1].find((g) => g.ways_in.length > 1)?.name ?? first.name
  return both
})
const rows = computed(() => reading.data?.[0])
const gates = computed(() => reading.data?.[1] ?? [])
const trying = useActing()
const attempt = () => trying.act(async () => {
  tried.value = undefined
  tried.value = await got(api.POST('/routes/try', { body: ask.value }))
})
</script>

<template>
  <section class="routes">
    <h2>{{ t('route.title') }}</h2>
    <p class="quiet">{{ t('route.words') }}</p>
    <div v-if="rows" class="scroll">
      <table v-ledger class="ledger">
        <thead><tr><th>#</th><th>{{ t('route.one') }}</th><th>{{ t('route.decides') }}</th></tr></thead>
        <tbody>
          <tr v-for="(r, i) in rows" :key="r.name" :class="{ here: tried?.route === r.name }">
            <td class="fixed quiet">{{ i + 1 }}</td><td class="fixed"><b>{{ r.name }}</b></td><td class="wide">{{ r.sentence }}</td>
          </tr>
          <tr v-if="!rows.length"><td colspan="3" class="quiet">{{ t('route.none') }}</td></tr>
        </tbody>
      </table>
    </div>
    <form class="try" data-test="try-route" @submit.prevent="attempt">
      <v-select v-model="ask.gate" :items="[...gates.map((g) => g.name), 'console', 'quay']" :label="t('gate')" />
      <v-text-field v-model="ask.name" name="name" :label="t('route.name')" autocomplete="off" spellcheck="false" />
      <v-text-field v-model="ask.address" name="from" :label="t('route.from')" autocomplete="off" spellcheck="false" />
      <v-text-field v-model="ask.agent" name="agent" :label="t('route.agent')" autocomplete="off" spellcheck="false" />
      <v-checkbox v-model="ask.draft" :label="t('route.draft')" hide-details density="compact" />
      <v-btn type="submit" color="primary" :loading="trying.busy">{{ t('route.try') }}</v-btn>
    </form>
    <Asked :of="reading" />
    <Asked :of="trying" />
    <div v-if="tried" class="tried" data-test="tried">
      <p><b>{{ tried.name_wanted ? t('route.nameFirst') : (tried.route ?? t('route.noneFits')) }}</b>
        {{ tried.asked ? t('route.asked') : tried.name_wanted ? t('route.open') : '→' }} <span class="mono">{{ tried.ways.join(', ') }}</span> <span class="quiet from">({{ tried.source }})</span></p>
      <Story :steps="tried.steps" />
    </div>
  </section>
</template>

<style scoped>
.routes { margin-top: 22px; }
h2 { font-size: 1.02rem; font-weight: 600; margin-bottom: 4px; }
p { margin: 0 0 8px; }
.here td { background: rgba(var(--v-theme-primary), 0.08); }
.from { margin-inline-start: 0.4em; }
.try { display: grid; grid-template-columns: minmax(140px, 1fr) minmax(160px, 1.2fr) minmax(130px, 1fr) minmax(160px, 1.4fr) max-content max-content; gap: 8px 10px; align-items: center; margin: 12px 0; }
@media (max-width: 1000px) { .try { grid-template-columns: repeat(2, minmax(0, 1fr)); } }
@media (max-width: 560px) { .try { grid-template-columns: minmax(0, 1fr); } }
</style>
