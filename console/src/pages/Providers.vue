<script setup lang="ts">
// Identity providers: how they fare, one more from its address alone, and trials before any gate is switched.
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { api, got, type ProviderPart, type TrialAnswer } from '../api'
import { useActing, useReading } from '../api/asking'
import { visible } from '../look/shape'
import Checks from '../parts/Checks.vue'
import Copy from '../parts/Copy.vue'
import Mark from '../parts/Mark.vue'
import Routes from '../parts/Routes.vue'
import State from '../parts/State.vue'
import Asked from '../parts/Asked.vue'

const props = defineProps<{ rights: string }>()
const { t } = useI18n()
const router = useRouter()
const reading = useReading(() => Promise.all([got(api.GET('/providers')), got(api.GET('/saml'))]))
const rows = computed(() => reading.data?.[0])
const party = computed(() => reading.data?.[1])
const acting = useActing()
const address = ref('')
const part = ref<ProviderPart>()
const adding = ref(false)
const tried = ref<{ name: string; answer?: TrialAnswer }>()

async function add() {
  adding.value = true
  part.value = undefined
  const text = address.value.trim()
  // Metadata itself may be pasted as well as its address.
  const body = text.startsWith('<') ? { text } : { address: text }
  await acting.act(async () => (part.value = await got(api.POST('/providers/read', { body }))))
  adding.value = false
}
const values = (name: string) =>
  acting.act(async () => {
    tried.value = { name }
    try {
      tried.value = { name, answer: await got(api.POST('/trials/provider', { body: { name } })) }
    } finally {
      if (!tried.value?.answer) tried.value = undefined
    }
  })
const signIn = (name: string, draft = false) =>
  acting.act(async () => {
    const trial = await got(api.POST('/trials/sign-in', { body: { provider: name, draft } }))
    await router.push(`/trials/${trial.id}`)
  })
</script>

<template>
  <section class="page">
    <div class="page-head"><h1>{{ t('providers') }}</h1><span class="quiet">{{ t('prov.words') }}</span></div>
    <Asked :of="reading" />
    <Asked :of="acting" />
    <div v-if="rows" class="scroll">
      <table v-ledger class="ledger">
        <thead><tr><th>{{ t('provider') }}</th><th>{{ t('prov.protocol') }}</th><th>{{ t('sent') }}</th><th>{{ t('answered') }}</th><th :title="t('neverHint')">{{ t('never') }}</th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th></tr></thead>
        <tbody>
          <tr v-for="p in rows" :key="p.name">
            <td class="wide"><b>{{ p.title }}</b> <span class="mono quiet">{{ p.name }}</span><br /><span class="mono quiet">{{ p.issuer }}</span>
              <span v-if="!p.secret_stored" class="bad"><Mark tone="notice" /> {{ t('secretMissing') }}</span></td>
            <td class="fixed" :title="t('prov.knownAs', { id: p.known_as })">{{ p.kind === 'saml' ? 'SAML 2.0' : 'OpenID Connect' }}</td>
            <td class="fixed">{{ p.sent }}</td>
            <td class="fixed">{{ p.answered }}</td>
            <td class="fixed"><router-link v-if="p.never_came_back" :to="{ path: '/crossings', query: { outcome: 'never-came-back' } }"><State outcome="never-came-back" :words="String(p.never_came_back)" /></router-link><span v-else>0</span></td>
            <td class="fixed"><div class="ways">
              <router-link :to="{ path: '/handover', query: { for: 'provider', name: p.name } }">{{ t('sheet.one') }}</router-link>
              <template v-if="props.rights === 'configure'">
                <v-btn size="small" variant="outlined" :loading="tried?.name === p.name && !tried.answer" @click="values(p.name)">{{ t('prov.values') }}</v-btn>
                <v-btn size="small" variant="outlined" :data-test="`sign-in-${p.name}`" @click="signIn(p.name)">{{ t('prov.signIn') }}</v-btn>
              </template>
            </div></td>
          </tr>
          <tr v-if="!rows.length"><td colspan="6" class="quiet">{{ t('prov.none') }}</td></tr>
        </tbody>
      </table>
    </div>
    <section v-if="tried?.answer" class="box">
      <h2>{{ t('prov.valuesOf', { name: tried.name }) }}</h2>
      <Checks :checks="tried.answer.checks" />
    </section>
    <Routes v-if="rows" />
    <section v-if="props.rights === 'configure'" class="box">
      <h2>{{ t('prov.add') }}</h2>
      <form class="add" @submit.prevent="add">
        <v-text-field v-model="address" name="address" :label="t('prov.address')" autocomplete="off" spellcheck="false" />
        <v-btn type="submit" color="primary" :loading="adding" :disabled="!address.trim()">{{ t('prov.read') }}</v-btn>
      </form>
      <p class="quiet">{{ t('prov.addWords') }}</p>
      <template v-if="part">
        <Checks :checks="part.checks" />
        <div class="part"><Copy :text="part.part" /><pre tabindex="0" class="mono" data-test="part">{{ visible(part.part).replaceAll('\\u{a}', '\n') }}</pre></div>
        <p class="then"><router-link to="/editions/draft">{{ t('prov.toDraft') }}</router-link>
          <v-btn size="small" variant="outlined" @click="signIn(part.name, true)">{{ t('prov.signInDraft') }}</v-btn>
          <router-link :to="{ path: '/handover', query: { for: 'provider', name: part.name, kind: part.kind } }">{{ t('sheet.one') }}</router-link></p>
      </template>
    </section>
    <section v-if="party" class="box">
      <h2>{{ t('prov.us') }}</h2>
      <p v-if="party.trouble" class="bad"><Mark tone="stop" /> {{ visible(party.trouble) }}</p>
      <dl>
        <dt>{{ t('prov.entity') }}</dt><dd class="mono">{{ party.entity_id }} <Copy :text="party.entity_id" small /></dd>
        <dt>{{ t('prov.metadata') }}</dt><dd class="mono"><a :href="party.address">{{ party.address }}</a> <Copy :text="party.address" small /></dd>
        <template v-for="(c, i) in party.certificates" :key="c.fingerprint">
          <dt>{{ t(i ? 'prov.otherKey' : 'prov.key') }}</dt>
          <dd><span class="mono print">{{ c.fingerprint }}</span> <span v-if="c.not_after" class="quiet">{{ t('prov.until', { at: c.not_after.slice(0, 10) }) }}</span></dd>
        </template>
      </dl>
      <p v-if="!party.certificates.length" class="quiet">{{ t('prov.noKey') }}</p>
    </section>
  </section>
</template>

<style scoped>
.box { margin-top: 22px; }
h2 { font-size: 1.02rem; font-weight: 600; margin-bottom: 8px; }
.ways { display: flex; gap: 6px 10px; align-items: center; justify-content: flex-end; }
.add { display: flex; gap: 10px; align-items: center; max-width: 900px; margin-bottom: 6px; }
.part { position: relative; margin: 10px 0; }
.part > :first-child { position: absolute; inset-inline-end: 8px; top: 8px; }
pre { background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); padding: 10px 90px 10px 12px; font-size: 0.86rem; white-space: pre-wrap; overflow-wrap: anywhere; }
.then { display: flex; flex-wrap: wrap; gap: 6px 18px; align-items: center; }
dl { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 5px 16px; margin: 0; }
dt { color: rgb(var(--v-theme-quiet)); }
dd { margin: 0; overflow-wrap: anywhere; }
.print { word-break: break-all; }
.bad { color: rgb(var(--v-theme-notice)); }
@media (max-width: 700px) { dl { grid-template-columns: minmax(0, 1fr); } .add { flex-wrap: wrap; } }
</style>
