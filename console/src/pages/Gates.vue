<script setup lang="ts">
// The gates with their rules and what happened of late; the directories and their servers.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got } from '../api'
import { useReading } from '../api/asking'
import { moment, visible } from '../look/shape'
import Mark from '../parts/Mark.vue'
import State from '../parts/State.vue'
import Asked from '../parts/Asked.vue'
import Reach from '../parts/Reach.vue'
import ZoneNeeds from '../parts/ZoneNeeds.vue'

defineProps<{ rights: string }>()
const { t, locale } = useI18n()
const reading = useReading(() => Promise.all([got(api.GET('/gates')), got(api.GET('/directories'))]))
const gates = computed(() => reading.data?.[0])
const directories = computed(() => reading.data?.[1] ?? [])
const networks = computed(() => gates.value?.filter((g) => g.kind !== 'web').map((g) => g.name) ?? [])
</script>

<template>
  <section class="page">
    <div class="page-head"><h1>{{ t('gates') }}</h1></div>
    <Asked :of="reading" />
    <p v-if="gates && !gates.length" class="quiet">{{ t('none.gates') }}</p>
    <article v-for="g in gates" :key="g.name" class="gate">
      <header>
        <h2>{{ g.title }} <span class="mono quiet">{{ g.name }}</span></h2>
        <p><a :href="g.address + '/'">{{ g.address }}</a></p>
        <ul class="ups">
          <li v-for="u in g.upstreams" :key="u.address">
            <Mark :tone="u.draining || !u.tried ? 'quiet' : u.well ? 'pass' : 'stop'" /> <span class="mono">{{ u.address }}</span>
            <span class="quiet">{{ t(u.draining ? 'ups.draining' : !u.tried ? 'ups.none' : u.well ? 'ups.well' : 'ups.down') }}</span>
            <p v-if="u.last_failure && !u.well" class="quiet">{{ visible(u.last_failure) }}</p>
            <p v-if="u.finding" class="bad">{{ u.finding }}</p>
          </li>
        </ul>
        <p class="quiet">{{ g.ways_in.join(', ') }}, {{ g.directories.length ? t('directory', { d: g.directories.join(', ') }) : t('noDirectory') }}</p>
        <p><router-link :to="{ path: '/handover', query: { for: 'application', name: g.name } }">{{ t('sheet.one') }}</router-link></p>
      </header>
      <div>
        <template v-if="g.zones.length">
          <h3>{{ t('reach.zones') }}</h3>
          <ul><li v-for="z in g.zones" :key="z.name">{{ visible(z.words) }} <ZoneNeeds v-if="rights !== 'view' && g.kind === 'network'" :zone="z.name" /></li></ul>
        </template>
        <h3>{{ t('rules') }}</h3>
        <ul>
          <li v-for="r in g.rules" :key="r">{{ visible(r) }}</li>
          <li v-if="!g.rules.length" class="bad"><Mark tone="notice" /> {{ t('noRule') }}</li>
        </ul>
        <template v-if="g.sections.length">
          <h3>{{ t('sections') }}</h3>
          <ul><li v-for="p in g.sections" :key="p">{{ visible(p) }}</li></ul>
        </template>
        <template v-if="g.mappings.length">
          <h3>{{ t('mappings') }}</h3>
          <ul class="mono"><li v-for="m in g.mappings" :key="m">{{ visible(m) }}</li></ul>
        </template>
        <template v-if="g.kind === 'web' || (g.kind === 'vpn' && g.headers.length)">
          <h3>{{ t(g.kind === 'vpn' ? 'attributesTold' : 'headers') }}</h3>
          <ul class="mono"><li v-for="h in g.headers" :key="h">{{ h }}</li><li v-if="!g.headers.length">—</li></ul>
        </template>
        <template v-if="g.machines.length">
          <h3>{{ t('reach.machines') }}</h3>
          <ul><li v-for="m in g.machines" :key="m">{{ visible(m) }}</li></ul>
        </template>
      </div>
      <div>
        <h3>{{ t('lastDay') }}</h3>
        <ul>
          <li v-for="c in g.last_day" :key="c.outcome">
            <router-link class="count" :to="{ path: '/crossings', query: { gate: g.name, outcome: c.outcome } }"><span class="num">{{ c.count }}</span> <State :outcome="c.outcome" :words="c.words" /></router-link>
          </li>
          <li v-if="!g.last_day.length" class="quiet">{{ t('nothing') }}</li>
        </ul>
        <p class="quiet">{{ t('liveSessions', { n: g.live_sessions }, g.live_sessions) }}</p>
      </div>
    </article>
    <Reach v-if="networks.length" :gates="networks" />
    <template v-if="directories.length">
      <h2 class="sub">{{ t('directories') }}</h2>
      <div class="scroll">
        <table v-ledger class="ledger">
          <thead><tr><th>{{ t('server') }}</th><th>{{ t('state') }}</th><th>{{ t('answers') }}</th><th>{{ t('failures') }}</th><th>{{ t('lastFailure') }}</th></tr></thead>
          <tbody v-for="d in directories" :key="d.name">
            <tr v-for="s in d.servers" :key="s.address">
              <td class="wide"><b>{{ d.name }}</b> <span class="mono quiet">{{ s.address }}</span> <router-link :to="{ path: '/handover', query: { for: 'directory', name: d.name } }">{{ t('sheet.one') }}</router-link> <span v-if="d.suffixes.length" class="quiet">{{ t('forSuffixes', { s: d.suffixes.join(', ') }) }}</span></td>
              <td class="fixed"><Mark :tone="!s.well ? 'stop' : s.last_answer ? 'pass' : 'quiet'" /> {{ t(!s.well ? 'srv.down' : s.last_answer ? 'srv.well' : 'srv.none') }}</td>
              <td class="fixed">{{ s.answers }}</td>
              <td class="fixed">{{ s.failures }}</td>
              <td class="wide"><template v-if="s.last_failure"><span v-if="s.last_failure_at" class="quiet">{{ moment(s.last_failure_at, locale) }}</span> {{ visible(s.last_failure) }}<span v-if="s.rests_until" class="quiet"> · {{ t('restsUntil', { at: moment(s.rests_until, locale) }) }}</span></template><span v-if="!d.secret_stored" class="bad"><Mark tone="notice" /> {{ t('secretMissing') }}</span></td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </section>
</template>

<style scoped>
.ups { list-style: none; padding: 0; margin: 0 0 4px; }
.ups .quiet { margin-inline-start: 6px; }
.gate { display: grid; grid-template-columns: minmax(240px, 1.1fr) minmax(280px, 1.6fr) minmax(170px, 0.7fr); gap: 10px 28px; background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); padding: 14px 18px; margin-bottom: 12px; }
.gate header p { margin-top: 4px; overflow-wrap: anywhere; }
h2 { font-size: 1.1rem; font-weight: 600; }
h2 .mono { font-weight: 400; font-size: 0.86rem; margin-inline-start: 6px; }
h2.sub { margin: 24px 0 10px; }
h3 { margin-bottom: 0; font-size: 0.86rem; font-weight: 560; color: rgb(var(--v-theme-quiet)); }
h3:not(:first-child) { margin-top: 10px; }
ul { list-style: none; padding: 0; margin: 0; }
li { overflow-wrap: anywhere; padding: 1px 0; }
.count { display: inline-flex; gap: 10px; text-decoration: none; }
.count:hover { text-decoration: underline; }
.num { min-width: 3ch; text-align: end; color: rgb(var(--v-theme-on-surface)); }
.bad { color: rgb(var(--v-theme-notice)); }
@media (max-width: 900px) { .gate { grid-template-columns: minmax(0, 1fr); } }
</style>
