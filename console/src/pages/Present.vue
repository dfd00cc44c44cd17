<script setup lang="ts">
// Who is on a network that Passeur guards, how many were over the day, who had an address; and taking somebody off.
import { computed, onUnmounted, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type HadAddress, type Presence, type Quarter } from '../api'
import { useActing, useReading } from '../api/asking'
import { bytes, moment, visible } from '../look/shape'
import { bars } from '../look/day'
import Asked from '../parts/Asked.vue'
import EntranceTrials from '../parts/EntranceTrials.vue'
import Profiles from '../parts/Profiles.vue'

const { t, locale } = useI18n()
defineProps<{ rights: string }>()
const text = ref('')
const all = ref(false)
const told = ref('')
const asking = ref<Presence[]>()

const reading = useReading(() =>
  got(api.GET('/presences', { params: { query: { text: text.value.trim() || undefined, all: all.value, limit: 1000 } } })), [all])
const rows = computed(() => reading.data?.presences)
const daily = useReading(() => got(api.GET('/presences/day', {})))
const plots = computed(() => {
  const of = (value: (q: Quarter) => number) => bars((daily.data ?? []).map((q) => ({ at: q.at, value: value(q) })))
  const people = of((q) => q.people)
  const machines = of((q) => q.machines)
  const octets = of((q) => q.up + q.down)
  return [
    { name: 'people', of: people, words: t('present.dayPeople', { people: people.most, machines: machines.most }), show: (n: number) => `${n}` },
    { name: 'octets', of: octets, words: t('present.dayBytes', { most: bytes(octets.most) }), show: bytes },
  ]
})
const acting = useActing()
let typing: ReturnType<typeof setTimeout> | undefined
watch(text, () => {
  clearTimeout(typing)
  typing = setTimeout(reading.again, 250)
})
// Who is on changes by itself.
const live = setInterval(() => !asking.value && reading.again(), 5000)
const lately = setInterval(daily.again, 60_000)
onUnmounted(() => [live, lately].forEach(clearInterval))

const people = computed(() => (rows.value ?? []).filter((p) => p.session && !p.ended_at))
const end = (which: Presence[]) =>
  acting.act(async () => {
    asking.value = undefined
    const done = await got(api.POST('/presences/end', { body: { presences: which.map((p) => p.id) } }))
    told.value = done.behind.length ? t('present.behind', { nodes: done.behind.join(', ') }) : t('present.ended', { n: done.ended.length })
    await reading.again()
  })

// Who had an address.
const address = ref('')
const when = ref('')
const had = ref<HadAddress[]>()
const lookUp = () =>
  acting.act(async () => {
    const at = when.value ? new Date(when.value).toISOString() : undefined
    const query = { address: address.value.trim(), from: at, until: at }
    had.value = await got(api.GET('/presences/addresses', { params: { query } }))
  })
</script>

<template>
  <section class="page">
    <div class="page-head"><h1>{{ t('present.title') }}</h1><span role="status" class="quiet">{{ told }}</span></div>
    <div v-if="plots[0]!.of.most || plots[1]!.of.most" class="day" data-test="day">
      <figure v-for="p in plots" :key="p.name" :class="p.name">
        <figcaption class="quiet">{{ p.words }}</figcaption>
        <svg viewBox="0 0 960 60" preserveAspectRatio="none" role="img" :aria-label="p.words">
          <rect v-for="b in p.of.bars" :key="b.at" :x="b.x" :y="58 - b.height" width="8" :height="b.height"><title>{{ moment(b.at, locale) }}: {{ p.show(b.value) }}</title></rect>
          <line x1="0" x2="960" y1="58.5" y2="58.5" />
        </svg>
      </figure>
    </div>
    <div class="tools">
      <v-text-field v-model="text" class="find" :label="t('present.find')" clearable @click:clear="text = ''" />
      <v-checkbox v-model="all" :label="t('present.all')" hide-details density="compact" />
      <v-btn v-if="rights !== 'view' && people.length > 1" variant="outlined" color="stop" data-test="end-all" @click="asking = people">{{ t('present.endAll', { n: people.length }) }}</v-btn>
    </div>
    <Asked :of="reading" />
    <Asked :of="acting" />
    <div class="scroll">
      <table v-ledger class="ledger">
        <thead><tr><th>{{ t('person') }}</th><th>{{ t('present.machine') }}</th><th>{{ t('present.zone') }}</th><th>{{ t('present.opens') }}</th><th>{{ t('began') }}</th><th>{{ t('goodUntil') }}</th><th>{{ t('present.up') }}</th><th>{{ t('present.down') }}</th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th></tr></thead>
        <tbody>
          <tr v-for="p in rows" :key="p.id" data-test="on">
            <td class="person">
              <router-link v-if="p.session" :to="`/people/${encodeURIComponent(p.provider)}/${encodeURIComponent(p.subject)}`">{{ visible(p.name) }}</router-link>
              <template v-else>{{ visible(p.name) }} <span :class="p.gateway ? 'stop' : 'quiet'">{{ t(p.gateway ? 'present.unknown' : 'present.noPerson') }}</span></template>
              <div v-if="p.session" class="quiet">{{ t('present.by', { way: p.provider }) }}</div>
              <div v-if="p.groups.length" class="quiet groups" :title="p.groups.map(visible).join(', ')">{{ p.groups.slice(0, 4).map(visible).join(', ') }}{{ p.groups.length > 4 ? ` +${p.groups.length - 4}` : '' }}</div>
            </td>
            <td class="mono">
              {{ p.hardware ?? (p.address || (p.gateway?.number ? `№ ${p.gateway.number}` : '—')) }} <span v-if="p.calls_itself" class="quiet">{{ visible(p.calls_itself) }}</span>
              <div v-if="p.outside" class="quiet">{{ t('present.outside', { address: p.outside }) }}</div>
              <div v-if="p.gateway" class="quiet">{{ p.gateway.heard_at ? t('present.heard', { nas: visible(p.gateway.nas), at: moment(p.gateway.heard_at, locale) }) : t('present.unheard', { nas: visible(p.gateway.nas) }) }}</div>
              <div v-for="a in p.addresses.filter((a) => p.hardware || a !== p.address)" :key="a" class="quiet">{{ a }}</div>
            </td>
            <td>{{ p.zone }}<div class="quiet">{{ p.node }}</div></td>
            <td><div v-for="o in p.opens" :key="o.reach">{{ o.reach }} <span class="quiet">{{ visible(o.rule) }}</span></div><span v-if="!p.opens.length" class="quiet">{{ p.gateway && !p.session ? '—' : t(p.tried ? 'entranceTrial.nothing' : 'present.nothing') }}</span></td>
            <td class="fixed">{{ moment(p.began, locale) }} <router-link v-if="p.crossing" :to="`/crossings/${p.crossing}`" class="quiet mono">{{ p.crossing }}</router-link></td>
            <td>
              <template v-if="p.ended_at">{{ moment(p.ended_at, locale) }}<div class="quiet">{{ p.ended_by }}</div></template>
              <template v-else>{{ p.until ? moment(p.until, locale) : '—' }}<div v-if="p.in_kernel === false" class="stop">{{ t('present.notInKernel') }}</div><div v-if="p.gateway?.disobeyed" class="stop" data-test="disobeyed">{{ t('present.disobeyed', { order: p.gateway.order }) }}</div></template>
            </td>
            <td class="fixed number">{{ bytes(p.up) }}</td>
            <td class="fixed number">{{ bytes(p.down) }}</td>
            <td><v-btn v-if="rights !== 'view' && p.session && !p.ended_at" data-test="end" size="small" variant="outlined" color="stop" @click="asking = [p]">{{ t('end') }}</v-btn></td>
          </tr>
          <tr v-if="rows && !rows.length"><td colspan="9" class="quiet">{{ t('none.present') }}</td></tr>
        </tbody>
      </table>
    </div>
    <EntranceTrials :rights="rights" />
    <Profiles v-if="rights !== 'view'" :rights="rights" />
    <h2>{{ t('present.who') }}</h2>
    <form class="tools" data-test="who" @submit.prevent="lookUp">
      <v-text-field v-model="address" name="address" :label="t('address')" />
      <v-text-field v-model="when" type="datetime-local" step="1" :label="t('present.when')" persistent-placeholder />
      <v-btn type="submit" variant="flat" color="primary" :disabled="!address.trim()">{{ t('present.lookUp') }}</v-btn>
    </form>
    <div v-if="had" class="scroll">
      <table class="ledger">
        <thead><tr><th>{{ t('person') }}</th><th>{{ t('subject') }}</th><th>{{ t('present.machine') }}</th><th>{{ t('present.from') }}</th><th>{{ t('present.until') }}</th></tr></thead>
        <tbody>
          <tr v-for="h in had" :key="h.presence + h.from" data-test="had">
            <td class="person">{{ visible(h.name) }}</td>
            <td class="mono">{{ visible(h.subject) }}</td>
            <td class="mono">{{ h.hardware ?? '—' }}</td>
            <td class="fixed">{{ h.from.slice(0, 19).replace('T', ' ') }} UTC</td>
            <td class="fixed">{{ h.until ? `${h.until.slice(0, 19).replace('T', ' ')} UTC` : t('present.still') }}</td>
          </tr>
          <tr v-if="!had.length"><td colspan="5" class="quiet">{{ t('none.had') }}</td></tr>
        </tbody>
      </table>
    </div>
    <v-dialog :model-value="!!asking" max-width="460" @update:model-value="asking = undefined">
      <v-card v-if="asking" rounded="2">
        <v-card-text>{{ asking.length === 1 ? t('present.endAsk', { who: visible(asking[0]!.name) }) : t('present.endAllAsk', { n: asking.length }) }}</v-card-text>
        <v-card-actions><v-spacer /><v-btn variant="text" @click="asking = undefined">{{ t('cancel') }}</v-btn><v-btn color="stop" variant="flat" data-test="end-yes" @click="end(asking)">{{ t('endYes') }}</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
  </section>
</template>

<style scoped>
.day { display: grid; grid-template-columns: repeat(auto-fit, minmax(280px, 1fr)); gap: 8px 24px; margin: 0 0 16px; }
.day figure { margin: 0; }
.day svg { width: 100%; height: 60px; display: block; }
.day rect { fill: rgb(var(--v-theme-primary)); }
.day .octets rect { opacity: 0.6; }
.day line { stroke: currentColor; opacity: 0.4; }
.number { text-align: right; }
h2 { font-size: 1.02rem; font-weight: 600; margin: 22px 0 14px; }
.stop { color: rgb(var(--v-theme-stop)); }
</style>
