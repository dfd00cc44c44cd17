<script setup lang="ts">
// Who of the last days would fare otherwise under an edition, by kind, with what decides then.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Affected, Rehearsal } from '../api'
import { moment, visible, type Tone } from '../look/shape'
import Mark from './Mark.vue'

const props = defineProps<{ rehearsal: Rehearsal }>()
const { t, locale } = useI18n()
const kinds = computed(() => {
  const r = props.rehearsal
  const all: { word: string; tone: Tone; crossings: number; people: Affected[] }[] = [
    { word: 'refuses', tone: 'stop', crossings: r.refused, people: r.refuses },
    { word: 'admits', tone: 'pass', crossings: r.admitted, people: r.admits },
    { word: 'differs', tone: 'notice', crossings: r.differing, people: r.differs },
    { word: 'notKnown', tone: 'quiet', crossings: r.not_known, people: r.cannot_be_known },
  ]
  return all.filter((k) => k.people.length)
})
</script>

<template>
  <div data-test="rehearsal">
    <p>{{ t('rehearsed.sum', { n: rehearsal.crossings, same: rehearsal.same }) }} <span class="quiet">{{ t('rehearsed.how', { d: rehearsal.distinct, ms: rehearsal.millis }) }}</span></p>
    <p v-if="!kinds.length" class="none"><Mark tone="pass" /> {{ t('rehearsed.none') }}</p>
    <template v-for="k in kinds" :key="k.word">
      <h3><Mark :tone="k.tone" /> {{ t(`rehearsed.${k.word}`, { n: k.people.length }, k.people.length) }} <span class="quiet">{{ t('rehearsed.crossings', { n: k.crossings }, k.crossings) }}</span></h3>
      <div class="scroll">
        <table v-ledger class="ledger">
          <thead><tr><th>{{ t('person') }}</th><th>{{ t('gate') }}</th><th>{{ t('rehearsed.last') }}</th><th>{{ t('rehearsed.now') }}</th><th>{{ t('rehearsed.then') }}</th></tr></thead>
          <tbody>
            <tr v-for="a in k.people" :key="a.gate + a.provider + a.subject">
              <td class="person">{{ visible(a.person) }} <span class="mono quiet">{{ visible(a.subject) }}</span></td>
              <td class="fixed">{{ a.gate }}</td>
              <td class="fixed"><router-link :to="`/crossings/${a.crossing}`">{{ moment(a.last, locale) }}</router-link></td>
              <td class="half">{{ visible(a.now) }}</td>
              <td class="half"><template v-if="a.what.length"><span v-for="w in a.what" :key="w" class="line">{{ visible(w) }}</span></template><template v-else>{{ visible(a.then) }}</template></td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </div>
</template>

<style scoped>
h3 { display: flex; gap: 8px; align-items: center; font-size: 1rem; font-weight: 600; margin: 14px 0 6px; }
h3 .quiet { font-weight: 400; font-size: 0.9rem; }
.none { display: flex; gap: 8px; align-items: center; margin-top: 6px; }
.person .mono { white-space: nowrap; }
.person { min-width: 150px; overflow-wrap: anywhere; }
.half { width: 40%; overflow-wrap: anywhere; }
.line { display: block; }
</style>
