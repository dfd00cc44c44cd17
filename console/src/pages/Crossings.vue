<script setup lang="ts">
// Crossings, latest first: filters in the address, so that a view can be sent to a colleague.
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRoute, useRouter } from 'vue-router'
import { api, ApiProblem, got, language, type CrossingLine } from '../api'
import { moment, visible } from '../look/shape'
import State from '../parts/State.vue'
import Trouble from '../parts/Trouble.vue'
import { messages } from '../words'

const { t, locale } = useI18n()
const route = useRoute()
const router = useRouter()
const rows = ref<CrossingLine[]>([])
const next = ref<string | null>()
const unrecorded = ref(0)
const problem = ref<ApiProblem>()
const reading = ref(true)
const follow = ref(false)
const gates = ref<string[]>([])
const id = ref('')
const PAGE = 100
const more = ref(['address', 'way', 'rule', 'since', 'until'].some((name) => route.query[name]))

const one = (name: string) => (typeof route.query[name] === 'string' ? (route.query[name] as string) : undefined)
// A date field gives a moment of this place without a zone.
const whole = (local?: string) => (local && !Number.isNaN(Date.parse(local)) ? new Date(local).toISOString() : undefined)
const filters = computed(() => ({
  gate: one('gate'), outcome: one('outcome'), person: one('person'), address: one('address'), way: one('way'), rule: one('rule'), since: whole(one('since')), until: whole(one('until')),
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

let asked = 0
async function read(before?: string) {
  const mine = ++asked
  problem.value = undefined
  try {
    const list = await got(api.GET('/crossings', { params: { query: { ...filters.value, before, limit: PAGE } } }))
    if (mine !== asked) return
    rows.value = before ? [...rows.value, ...list.crossings] : list.crossings
    next.value = list.next
    unrecorded.value = list.unrecorded
  } catch (e) {
    if (mine === asked) problem.value = e as ApiProblem
  } finally {
    if (mine === asked) reading.value = false
  }
}
watch([filters, language], () => read(), { immediate: true })
api.GET('/gates').then(({ data }) => (gates.value = (data ?? []).map((g) => g.name)))

const timer = setInterval(() => {
  if (follow.value && !document.hidden) read()
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
      <v-select class="f" :model-value="filters.gate" :items="['console', 'quay', 'sign-in', ...gates]" :label="t('allGates')" clearable @update:model-value="set('gate', $event)" />
      <v-select class="f" :model-value="filters.outcome" :items="outcomes" :label="t('allOutcomes')" clearable @update:model-value="set('outcome', $event)" />
      <v-btn variant="text" :aria-expanded="more" data-test="more-filters" @click="more = !more">{{ t(more ? 'fewerFilters' : 'moreFilters') }}</v-btn>
      <v-text-field v-model="id" class="f" :label="t('openId')" autocomplete="off" spellcheck="false" />
      <v-btn :color="follow ? 'primary' : undefined" :variant="follow ? 'flat' : 'outlined'" :aria-pressed="follow" @click="follow = !follow">{{ follow ? t('following') : t('live') }}</v-btn>
    </form>
    <form v-if="more" class="filters" @submit.prevent>
      <v-text-field v-model="typed.address.value" class="f" name="address" :label="t('fromAddress')" clearable @click:clear="typed.address.value = ''" />
      <v-text-field v-model="typed.way.value" class="f" name="way" :label="t('byWay')" clearable @click:clear="typed.way.value = ''" />
      <v-text-field v-model="typed.rule.value" class="f" name="rule" :label="t('byRule')" clearable @click:clear="typed.rule.value = ''" />
      <v-text-field class="f-time" type="datetime-local" :model-value="one('since')" :label="t('fromTime')" @update:model-value="set('since', $event)" />
      <v-text-field class="f-time" type="datetime-local" :model-value="one('until')" :label="t('toTime')" @update:model-value="set('until', $event)" />
    </form>
    <Trouble v-if="problem" :problem="problem" @again="read()" />
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
          <tr v-if="!rows.length"><td colspan="6" class="quiet">{{ reading ? t('loading') : t('none.crossings') }}</td></tr>
        </tbody>
      </table>
    </div>
    <v-btn v-if="next && !follow" class="mt-3" variant="outlined" @click="read(next ?? undefined)">{{ t('more') }}</v-btn>
  </section>
</template>

<style scoped>
.filters { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; margin-bottom: 12px; }
.f-person { flex: 1 1 220px; max-width: 320px; }
.f { flex: 1 1 150px; max-width: 200px; }
.f-time { flex: 0 1 240px; min-width: 220px; }
.person { min-width: 160px; max-width: 220px; overflow-wrap: anywhere; }
</style>
