<script setup lang="ts">
// Crossings, latest first: filters in the address, so that a view can be sent to a colleague.
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type CrossingList } from '../api'
import { usePages, useReading } from '../api/asking'
import { wholeMoment } from '../look/reads'
import { moment, visible } from '../look/shape'
import State from '../parts/State.vue'
import Asked from '../parts/Asked.vue'
import { messages } from '../words'

const { t, locale } = useI18n()
const route = useRoute()
const router = useRouter()
const follow = ref(false)
const id = ref('')
const PAGE = 100
const wide = ref(['address', 'way', 'rule', 'since', 'until'].some((name) => route.query[name]))

const one = (name: string) => (typeof route.query[name] === 'string' ? (route.query[name] as string) : undefined)
const filters = computed(() => ({
  gate: one('gate'), outcome: one('outcome'), person: one('person'), address: one('address'), way: one('way'), rule: one('rule'), since: wholeMoment(one('since')), until: wholeMoment(one('until')),
}))
const person = ref(filters.value.person ?? '')
const typed = { address: ref(one('address') ?? ''), rule: ref(one('rule') ?? ''), way: ref(one('way') ?? '') }

function set(name: string, value?: string | null) {
  router.replace({ query: { ...route.query, [name]: value || undefined } })
}
let typing: ReturnType<typeof setTimeout> | undefined
watch(person, (p) => {
  clearTimeout(typing)
  typing = setTimeout(() => set('person', p.trim()), 250)
})

for (const [name, value] of Object.entries(typed)) {
  watch(value, (v) => {
    clearTimeout(typing)
    typing = setTimeout(() => set(name, v.trim()), 400)
  })
}

const list = usePages((last?: CrossingList) => got(api.GET('/crossings', { params: { query: { ...filters.value, before: last?.next ?? undefined, limit: PAGE } } })), [filters])
const rows = computed(() => list.all.flatMap((page) => page.crossings))
const unrecorded = computed(() => list.last?.unrecorded ?? 0)
const gates = useReading(async () => (await got(api.GET('/gates'))).map((g) => g.name))

const timer = setInterval(() => {
  if (follow.value && !document.hidden) list.first.again()
}, 2000)
onBeforeUnmount(() => clearInterval(timer))

const outcomes = computed(() => Object.keys(messages.en.outcomes).map((value) => ({ value, title: t(`outcomes.${value}`) })))
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ t('crossings') }}</h1>
      <span v-if="unrecorded" class="quiet">{{ t('unrecorded', { n: unrecorded }) }}</span>
    </div>
    <form class="filters" @submit.prevent="id.trim() && router.push(`/crossings/${encodeURIComponent(id.trim())}`)">
      <v-text-field v-model="person" class="f-person" :label="t('anyPerson')" clearable @click:clear="person = ''" />
      <v-select class="f" :model-value="filters.gate" :items="['console', 'quay', 'sign-in', ...(gates.data ?? [])]" :label="t('allGates')" clearable @update:model-value="set('gate', $event)" />
      <v-select class="f" :model-value="filters.outcome" :items="outcomes" :label="t('allOutcomes')" clearable @update:model-value="set('outcome', $event)" />
      <v-btn variant="text" :aria-expanded="wide" data-test="more-filters" @click="wide = !wide">{{ t(wide ? 'fewerFilters' : 'moreFilters') }}</v-btn>
      <v-text-field v-model="id" class="f" :label="t('openId')" autocomplete="off" spellcheck="false" />
      <v-btn :color="follow ? 'primary' : undefined" :variant="follow ? 'flat' : 'outlined'" :aria-pressed="follow" @click="follow = !follow">{{ follow ? t('following') : t('live') }}</v-btn>
    </form>
    <form v-if="wide" class="filters" @submit.prevent>
      <v-text-field v-model="typed.address.value" class="f" name="address" :label="t('fromAddress')" clearable @click:clear="typed.address.value = ''" />
      <v-text-field v-model="typed.way.value" class="f" name="way" :label="t('byWay')" clearable @click:clear="typed.way.value = ''" />
      <v-text-field v-model="typed.rule.value" class="f" name="rule" :label="t('byRule')" clearable @click:clear="typed.rule.value = ''" />
      <v-text-field class="f-time" type="datetime-local" :model-value="one('since')" :label="t('fromTime')" @update:model-value="set('since', $event)" />
      <v-text-field class="f-time" type="datetime-local" :model-value="one('until')" :label="t('toTime')" @update:model-value="set('until', $event)" />
    </form>
    <Asked :of="list.first" />
    <Asked :of="list.acting" />
    <Asked :of="gates" />
    <div class="scroll">
      <table v-ledger class="ledger">
        <thead>
          <tr><th>{{ t('time') }}</th><th>{{ t('crossing') }}</th><th>{{ t('gate') }}</th><th>{{ t('outcome') }}</th><th>{{ t('person') }}</th><th>{{ t('why') }}</th></tr>
        </thead>
        <tbody>
          <tr v-for="c in rows" :key="c.id">
            <td class="fixed">{{ moment(c.at, locale) }}</td>
            <td class="fixed"><router-link class="mono" :to="`/crossings/${c.id}`">{{ c.id }}</router-link></td>
            <td class="fixed">{{ c.gate }}</td>
            <td class="fixed"><State :outcome="c.outcome" :words="c.outcome_words" /></td>
            <td class="person">{{ c.person ? visible(c.person) : '—' }}</td>
            <td class="wide">{{ visible(c.why) }} <span v-if="c.repeats" class="quiet">({{ t('repeats', { n: c.repeats }) }})</span></td>
          </tr>
          <tr v-if="list.first.answered && !rows.length"><td colspan="6" class="quiet">{{ t('none.crossings') }}</td></tr>
        </tbody>
      </table>
    </div>
    <v-btn v-if="list.last?.next && !follow" class="mt-3" variant="outlined" :loading="list.acting.busy" @click="list.more">{{ t('more') }}</v-btn>
  </section>
</template>

<style scoped>
.filters { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; margin-bottom: 12px; }
.f-person { flex: 1 1 220px; max-width: 320px; }
.f { flex: 1 1 150px; max-width: 200px; }
.f-time { flex: 0 1 240px; min-width: 220px; }
.person { min-width: 160px; max-width: 220px; overflow-wrap: anywhere; }
</style>
