<script setup lang="ts">
// Live sessions, and ending one.
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type Factors, type PersonalToken, type Session } from '../api'
import { useActing, useReading } from '../api/asking'
import { browser, moment, visible } from '../look/shape'
import Asked from '../parts/Asked.vue'

const { t, locale } = useI18n()
defineProps<{ rights: string }>()
const person = ref('')
const asking = ref<Session>()
const told = ref('')

const reading = useReading(() => got(api.GET('/sessions', { params: { query: { person: person.value.trim() || undefined } } })))
const rows = computed(() => reading.data)
const acting = useActing()
let typing: ReturnType<typeof setTimeout> | undefined
watch(person, () => {
  clearTimeout(typing)
  typing = setTimeout(reading.again, 250)
})

// Factors of one person: shown, and taken away from whoever lost theirs.
const of = ref<Session>()
const factors = ref<Factors>()
const tokens = ref<PersonalToken[]>([])
async function look(s: Session) {
  const path = { provider: s.provider, subject: s.subject }
  factors.value = await got(api.GET('/people/{provider}/{subject}/factors', { params: { path } }))
  tokens.value = await got(api.GET('/people/{provider}/{subject}/tokens', { params: { path } }))
  of.value = s
}
const open = (s: Session) => acting.act(() => look(s))
// What is refused is told on the page, which the dialog covers.
async function take(what: (path: { provider: string; subject: string }) => Promise<string[]>) {
  const s = of.value
  if (!s) return
  const done = await acting.act(async () => {
    const gone = await what({ provider: s.provider, subject: s.subject })
    told.value = t('factorsRemoved', { what: visible(gone.join(', ')) })
    await look(s)
    await reading.again()
  })
  if (!done) of.value = undefined
}
const remove = (id?: string) =>
  take(async (path) => (await got(api.DELETE('/people/{provider}/{subject}/factors', { params: { path, query: { id } } }))).removed)
const revoke = (id: string) =>
  take(async (path) => (await got(api.DELETE('/people/{provider}/{subject}/tokens', { params: { path, query: { id } } }))).revoked)

const end = (s: Session) => acting.act(async () => {
  asking.value = undefined
  await got(api.POST('/sessions/end', { body: { sessions: [s.id] } }))
  told.value = t('ended', { who: visible(s.name) })
  await reading.again()
})
</script>

<template>
  <section class="page">
    <div class="page-head"><h1>{{ t('sessions') }}</h1><span role="status" class="quiet">{{ told }}</span><router-link to="/leavers" data-test="leavers">{{ t('left.link') }}</router-link></div>
    <v-text-field v-model="person" class="find" :label="t('anyPerson')" clearable @click:clear="person = ''" />
    <Asked :of="reading" />
    <Asked :of="acting" />
    <div class="scroll">
      <table v-ledger class="ledger">
        <thead><tr><th>{{ t('person') }}</th><th>{{ t('subject') }}</th><th>{{ t('began') }}</th><th>{{ t('lastSeen') }}</th><th>{{ t('goodUntil') }}</th><th>{{ t('address') }}</th><th>{{ t('browser') }}</th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th></tr></thead>
        <tbody>
          <tr v-for="s in rows" :key="s.id">
            <td class="person"><router-link :to="`/people/${encodeURIComponent(s.provider)}/${encodeURIComponent(s.subject)}`">{{ visible(s.name) }}</router-link></td>
            <td class="mono fixed">{{ visible(s.subject) }}</td>
            <td class="fixed">{{ moment(s.began, locale) }}</td>
            <td class="fixed">{{ moment(s.last_seen, locale) }}</td>
            <td class="fixed">{{ moment(s.good_until, locale) }}</td>
            <td class="mono fixed">{{ s.address }}</td>
            <td class="wide agent quiet" :title="visible(s.agent)">{{ visible(browser(s.agent)) }}</td>
            <td class="fixed"><v-btn size="small" variant="text" @click="open(s)">{{ t('factors') }}</v-btn></td>
            <td><v-btn v-if="rights !== 'view'" data-test="end" size="small" variant="outlined" color="stop" @click="asking = s">{{ t('end') }}</v-btn></td>
          </tr>
          <tr v-if="rows && !rows.length"><td colspan="9" class="quiet">{{ t('none.sessions') }}</td></tr>
        </tbody>
      </table>
    </div>
    <v-dialog :model-value="!!asking" max-width="460" @update:model-value="asking = undefined">
      <v-card v-if="asking" rounded="2">
        <v-card-text>{{ t('endAsk', { who: visible(asking.name) }) }}</v-card-text>
        <v-card-actions><v-spacer /><v-btn variant="text" @click="asking = undefined">{{ t('cancel') }}</v-btn><v-btn color="stop" variant="flat" @click="end(asking)">{{ t('endYes') }}</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
    <v-dialog :model-value="!!of" max-width="620" @update:model-value="of = undefined">
      <v-card v-if="of && factors" rounded="2">
        <v-card-title>{{ t('factorsOf', { who: visible(of.name) }) }}</v-card-title>
        <v-card-text>
          <p v-if="!factors.factors.length" class="quiet">{{ t('none.factors') }}</p>
          <table v-else class="ledger">
            <tbody>
              <tr v-for="f in factors.factors" :key="f.id">
                <td class="person">{{ visible(f.name) }}</td>
                <td>{{ f.words }}</td>
                <td class="fixed">{{ moment(f.enrolled, locale) }}</td>
                <td><v-btn v-if="rights !== 'view'" size="small" variant="outlined" color="stop" :aria-label="t('removeFactor', { what: visible(f.name) })" @click="remove(f.id)">{{ t('remove') }}</v-btn></td>
              </tr>
            </tbody>
          </table>
          <p class="quiet">{{ t('recoveryLeft', { n: factors.recovery_codes }) }}</p>
          <h2>{{ t('programTokens') }}</h2>
          <p v-if="!tokens.length" class="quiet">{{ t('none.tokens') }}</p>
          <table v-else class="ledger">
            <tbody>
              <tr v-for="k in tokens" :key="k.id">
                <td class="person">{{ visible(k.name) }}</td>
                <td>{{ k.gates.join(', ') }} {{ k.paths?.join(' ') }}</td>
                <td class="fixed">{{ t('untilDay', { at: moment(k.until, locale) }) }}</td>
                <td><v-btn v-if="rights !== 'view'" size="small" variant="outlined" color="stop" :aria-label="t('removeFactor', { what: visible(k.name) })" @click="revoke(k.id)">{{ t('remove') }}</v-btn></td>
              </tr>
            </tbody>
          </table>
        </v-card-text>
        <v-card-actions>
          <v-btn v-if="rights !== 'view' && factors.factors.length" color="stop" variant="text" @click="remove()">{{ t('resetFactors') }}</v-btn>
          <v-spacer /><v-btn variant="text" @click="of = undefined">{{ t('close') }}</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
  </section>
</template>

<style scoped>
.find { max-width: 320px; margin-bottom: 12px; }
.agent { font-size: 0.86rem; }
.person { min-width: 170px; max-width: 260px; overflow-wrap: anywhere; }
</style>
