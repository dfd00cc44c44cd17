<script setup lang="ts">
// Somebody left: found by anything they are known by, everything taken away at once, kept out until that is lifted.
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRoute } from 'vue-router'
import { api, got, type FoundPeople, type TakenAway } from '../api'
import { useActing, useReading } from '../api/asking'
import { moment, visible } from '../look/shape'
import Asked from '../parts/Asked.vue'

const { t, locale } = useI18n()
const props = defineProps<{ rights: string }>()
const route = useRoute()
const may = computed(() => props.rights !== 'view')
const text = ref(String(route.query.who ?? ''))
const found = ref<FoundPeople>()
const chosen = ref<string[]>([])
const why = ref('')
const factors = ref(true)
const keepOut = ref(true)
const asking = ref(false)
const taken = ref<TakenAway>()
const acting = useActing()
const out = useReading(() => got(api.GET('/blocks')))
const blocks = computed(() => out.data)

const find = () => acting.act(async () => {
  taken.value = undefined
  found.value = await got(api.POST('/people/find', { body: { text: text.value.trim() } }))
  // Whoever was found by the text itself is meant; what others share with them is looked at first.
  chosen.value = found.value.people.length === 1 ? found.value.people.map((p) => p.person) : []
})
const take = () => acting.act(async () => {
  asking.value = false
  const block = keepOut.value ? why.value.trim() || t('left.whyDefault') : undefined
  taken.value = await got(api.POST('/people/take-away', { body: { people: chosen.value, factors: factors.value, block } }))
  found.value = undefined
  await out.again()
})
const lift = (person: string) => acting.act(async () => {
  await got(api.POST('/people/lift', { body: { people: [person] } }))
  await out.again()
})
function save() {
  const s = taken.value?.summary
  if (!s) return
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([`${s.text}signature: ${s.signature}\n`], { type: 'text/plain' }))
  link.download = 'taken-away.txt'
  link.click()
  URL.revokeObjectURL(link.href)
}
// What a person's own evidence tells of a directory needs no second line.
const entries = computed(() => {
  const told = found.value?.people.flatMap((p) => p.entries) ?? []
  return found.value?.entries.filter((e) => !told.some((one) => one.startsWith(`${e.directory}: `))) ?? []
})
const done = computed(() => {
  const d = taken.value
  if (!d) return []
  const names = (all: string[]) => all.map(visible).join(', ') || '0'
  return [
    [t('left.sessions'), String(d.sessions.length)],
    [t('left.programs'), names(d.personal_tokens)],
    [t('left.api'), names(d.api_tokens)],
    [t('left.factors'), names(d.factors)],
    [t('left.recovery'), String(d.recovery_codes)],
    [t('left.devices'), String(d.devices)],
    [t('left.profiles'), names(d.profiles ?? [])],
    [t('left.kept'), String(d.kept)],
  ]
})
if (text.value) find()
watch(() => route.query.who, (who) => { if (who) { text.value = String(who); find() } })
</script>

<template>
  <section class="page">
    <div class="page-head"><h1>{{ t('left.title') }}</h1></div>
    <p class="quiet">{{ t('left.words') }}</p>
    <form class="find" @submit.prevent="find">
      <v-text-field v-model="text" :label="t('left.whom')" autofocus hide-details data-test="whom" />
      <v-btn type="submit" variant="outlined" :disabled="text.trim().length < 2 || acting.busy">{{ t('left.find') }}</v-btn>
    </form>
    <Asked :of="acting" />
    <Asked :of="out" />
    <template v-if="found">
      <p v-if="!found.people.length" data-test="nobody">{{ t('left.nobody', { text: visible(text) }) }}</p>
      <div v-else class="scroll">
        <table v-ledger class="ledger" data-test="found">
          <thead><tr><th><span class="hidden">{{ t('left.choose') }}</span></th><th>{{ t('left.identity') }}</th><th>{{ t('person') }}</th><th class="n">{{ t('left.sessions') }}</th><th class="n">{{ t('left.tokens') }}</th><th class="n">{{ t('left.factors') }}</th><th>{{ t('lastSeen') }}</th><th>{{ t('left.by') }}</th></tr></thead>
          <tbody>
            <tr v-for="p in found.people" :key="p.person">
              <td><input v-model="chosen" type="checkbox" :value="p.person" :aria-label="visible(p.person)" :disabled="!may" /></td>
              <td class="who"><span class="mono">{{ visible(p.person) }}</span><span v-for="e in p.entries" :key="e" class="quiet entry">{{ visible(e) }}</span></td>
              <td class="person wide"><router-link :to="`/people/${p.person.split('/', 1)[0]}/${encodeURIComponent(p.person.slice(p.person.indexOf('/') + 1))}`">{{ visible(p.name) }}</router-link><span v-if="p.blocked" class="out"> {{ t('left.isOut', { why: visible(p.blocked) }) }}</span></td>
              <td class="n">{{ p.sessions }}</td>
              <td class="n">{{ p.personal_tokens + p.api_tokens }}</td>
              <td class="n">{{ p.factors }}</td>
              <td class="fixed">{{ p.seen ? moment(p.seen, locale) : '—' }}</td>
              <td class="quiet by">{{ p.shares ? t('left.shares', { what: visible(p.shares) }) : t('left.direct') }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-for="e in entries" :key="e.directory" class="quiet">{{ e.entry ? t('left.entry', { d: e.directory, entry: visible(e.entry) }) : t('left.noEntry', { d: e.directory, state: e.state, text: visible(text) }) }}</p>
      <p v-if="found.more">{{ t('left.more') }}</p>
      <div v-if="may && found.people.length" class="act">
        <v-text-field v-model="why" :label="t('left.why')" :placeholder="t('left.whyDefault')" maxlength="300" hide-details :disabled="!keepOut" />
        <v-checkbox v-model="keepOut" :label="t('left.keepOut')" hide-details density="compact" />
        <v-checkbox v-model="factors" :label="t('left.alsoFactors')" hide-details density="compact" />
        <v-btn color="stop" variant="flat" :disabled="!chosen.length || acting.busy" data-test="take" @click="asking = true">{{ t('left.take', { n: chosen.length }, chosen.length) }}</v-btn>
      </div>
    </template>
    <div v-if="taken" class="done" data-test="taken">
      <h2>{{ t('left.done', { who: taken.people.map(visible).join(', ') }) }}</h2>
      <dl><template v-for="[name, value] in done" :key="name"><dt>{{ name }}</dt><dd>{{ value }}</dd></template></dl>
      <p v-if="taken.behind.length" class="out">{{ t('left.behind', { nodes: taken.behind.map(visible).join(', ') }) }}</p>
      <template v-if="taken.outside.length">
        <h2>{{ t('left.outside') }}</h2>
        <ul><li v-for="o in taken.outside" :key="o.what">{{ visible(o.what) }}<span v-if="o.until" class="quiet"> · {{ t('untilDay', { at: moment(o.until, locale) }) }}</span></li></ul>
      </template>
      <v-btn variant="outlined" @click="save">{{ t('left.save') }}</v-btn>
    </div>
    <h2>{{ t('left.out') }}</h2>
    <p v-if="blocks && !blocks.length" class="quiet">{{ t('left.nobodyOut') }}</p>
    <div v-else-if="blocks" class="scroll">
      <table v-ledger class="ledger" data-test="out">
        <thead><tr><th>{{ t('left.identity') }}</th><th>{{ t('person') }}</th><th>{{ t('left.since') }}</th><th>{{ t('left.byWhom') }}</th><th>{{ t('why') }}</th><th><span class="hidden">{{ t('left.lift') }}</span></th></tr></thead>
        <tbody>
          <tr v-for="b in blocks" :key="b.person">
            <td class="who mono">{{ visible(b.person) }}</td>
            <td class="person">{{ visible(b.name) }}</td>
            <td class="fixed">{{ moment(b.at, locale) }}</td>
            <td class="by">{{ visible(b.by) }}</td>
            <td class="wide">{{ visible(b.why) }}</td>
            <td><v-btn v-if="may" size="small" variant="outlined" :aria-label="t('left.liftOf', { who: visible(b.name) })" @click="lift(b.person)">{{ t('left.lift') }}</v-btn></td>
          </tr>
        </tbody>
      </table>
    </div>
    <v-dialog v-model="asking" max-width="520">
      <v-card rounded="2">
        <v-card-text>{{ t('left.ask', { who: chosen.map(visible).join(', ') }) }}</v-card-text>
        <v-card-actions><v-spacer /><v-btn variant="text" @click="asking = false">{{ t('cancel') }}</v-btn><v-btn color="stop" variant="flat" data-test="sure" @click="take">{{ t('left.yes') }}</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
  </section>
</template>

<style scoped>
h2 { font-size: 1.02rem; font-weight: 600; margin: 22px 0 6px; overflow-wrap: anywhere; }
.find { display: flex; gap: 12px; align-items: center; max-width: 560px; margin: 8px 0 14px; }
.act { display: flex; flex-wrap: wrap; gap: 8px 18px; align-items: center; margin: 12px 0; }
.act .v-text-field { min-width: 260px; max-width: 420px; }
.act .v-btn { margin-left: auto; }
.n { text-align: right; }
.who { min-width: 200px; max-width: 420px; overflow-wrap: anywhere; }
.entry { display: block; font-size: 0.84rem; }
.by { min-width: 130px; }
.person { min-width: 150px; max-width: 260px; overflow-wrap: anywhere; }
.out { color: rgb(var(--v-theme-stop)); }
.done { border-top: 3px solid rgb(var(--v-theme-line)); padding-top: 4px; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: 4px 18px; margin: 6px 0; }
dt { opacity: 0.8; }
dd { margin: 0; overflow-wrap: anywhere; }
ul { margin: 4px 0 12px; padding-left: 20px; }
.hidden { position: absolute; clip-path: inset(50%); width: 1px; height: 1px; overflow: hidden; white-space: nowrap; }
</style>
