<script setup lang="ts">
// Kerberos as this node sees it: stored keys, what the KDCs give for services, accounts that act for people, and what is wrong.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type AccountState, type RealmAnswer, type ServiceFound } from '../api'
import { useReading } from '../api/asking'
import { moment, span, visible, type Tone } from '../look/shape'
import Findings from '../parts/Findings.vue'
import Mark from '../parts/Mark.vue'
import Asked from '../parts/Asked.vue'

const props = defineProps<{ rights: string }>()
const { t, locale } = useI18n()
const mayLook = computed(() => props.rights !== 'view')
const reading = useReading(async () => (mayLook.value ? got(api.POST('/kerberos')) : undefined), [mayLook])
const seen = computed(() => reading.data)
const nothing = computed(() => seen.value && !seen.value.keytabs.length && !seen.value.realms.length)
const tones: Record<RealmAnswer | ServiceFound | AccountState, Tone> = { answered: 'pass', silent: 'stop', alive: 'quiet', 'not-asked': 'quiet', sealed: 'pass', unknown: 'stop', acts: 'pass', refused: 'stop', 'not-known': 'quiet' }
const clock = (ahead?: number | null) => (ahead == null ? '—' : `${ahead > 0 ? '+' : ''}${ahead} s`)
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ t('krb.title') }}</h1>
      <span v-if="seen" class="quiet">{{ t('krb.of', { n: seen.edition, node: seen.node, at: moment(seen.at, locale), took: span(seen.millis) }) }}</span>
      <v-btn v-if="mayLook" color="primary" :loading="reading.busy" class="now" data-test="look" @click="reading.again">{{ t('krb.look') }}</v-btn>
    </div>
    <Asked :of="reading" />
    <p v-if="!mayLook" class="quiet">{{ t('krb.mayNot') }}</p>
    <p v-if="nothing" class="quiet">{{ t('krb.none') }}</p>
    <template v-if="seen && !nothing">
      <Findings :findings="seen.findings" />
      <h2>{{ t('krb.realms') }}</h2>
      <div class="scroll">
        <table v-ledger class="ledger" data-test="realms">
          <thead><tr><th>{{ t('krb.realm') }}</th><th>{{ t('krb.kdc') }}</th><th>{{ t('krb.clock') }}</th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th></tr></thead>
          <tbody>
            <tr v-for="r in seen.realms" :key="r.realm">
              <td class="mono">{{ visible(r.realm) }}</td>
              <td class="fixed"><Mark :tone="tones[r.answer]" /> {{ t(`krb.answer.${r.answer}`) }}</td>
              <td class="fixed num">{{ clock(r.ahead) }}</td>
              <td class="wide">{{ visible(r.words) }}</td>
              <td class="fixed"><router-link :to="`/handover?for=realm&name=${encodeURIComponent(r.realm)}`">{{ t('sheet.one') }}</router-link></td>
            </tr>
          </tbody>
        </table>
      </div>
      <h2>{{ t('krb.services') }}</h2>
      <div class="scroll">
        <table v-ledger class="ledger" data-test="services">
          <thead><tr><th>{{ t('krb.service') }}</th><th>{{ t('neededBy') }}</th><th>{{ t('krb.tickets') }}</th></tr></thead>
          <tbody>
            <tr v-for="s in seen.services" :key="s.service + s.of">
              <td class="mono wide">{{ visible(s.service) }}</td>
              <td class="fixed">{{ s.of }}</td>
              <td><Mark :tone="tones[s.found]" /> {{ visible(s.words) }}</td>
            </tr>
            <tr v-for="a in seen.accounts" :key="a.gate + a.account">
              <td class="mono wide">{{ visible(a.account) }}</td>
              <td class="fixed">gate {{ a.gate }}</td>
              <td><Mark :tone="tones[a.state]" /> {{ visible(a.words) }} <span class="quiet mono">{{ visible(a.service) }}</span></td>
            </tr>
          </tbody>
        </table>
      </div>
      <template v-for="k in seen.keytabs" :key="k.secret + k.version">
        <h2>{{ t('krb.keytab', { name: k.secret, n: k.version }) }} <span class="quiet">{{ k.needed_by.join(', ') }}</span></h2>
        <p v-if="k.trouble" class="bad"><Mark tone="stop" /> {{ visible(k.trouble) }}</p>
        <div v-else class="scroll">
          <table v-ledger class="ledger" data-test="keys">
            <thead><tr><th>{{ t('krb.principal') }}</th><th>{{ t('krb.kvno') }}</th><th>{{ t('krb.enctype') }}</th><th>{{ t('krb.written') }}</th></tr></thead>
            <tbody>
              <tr v-for="(key, i) in k.keys" :key="i">
                <td class="mono wide">{{ visible(key.principal) }}</td>
                <td class="fixed num">{{ key.kvno }}</td>
                <td class="fixed"><Mark v-if="key.weak" tone="notice" /> {{ key.enctype }} <span v-if="key.weak" class="notice">{{ t('krb.weak') }}</span></td>
                <td class="fixed">{{ key.written ? moment(key.written, locale) : '—' }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </template>
    </template>
  </section>
</template>

<style scoped>
.now { margin-inline-start: auto; }
h2 { font-size: 1.02rem; font-weight: 600; margin: 18px 0 6px; overflow-wrap: anywhere; }
h2 .quiet { font-weight: 400; margin-inline-start: 8px; }
.num { font-variant-numeric: tabular-nums; }
.bad { color: rgb(var(--v-theme-stop)); }
.notice { color: rgb(var(--v-theme-notice)); font-weight: 560; }
</style>
