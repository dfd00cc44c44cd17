<script setup lang="ts">
// What engineers did, and whether that record holds.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type ActList } from '../api'
import { usePages, useReading } from '../api/asking'
import { about } from '../look/reads'
import { moment, visible } from '../look/shape'
import Mark from '../parts/Mark.vue'
import Asked from '../parts/Asked.vue'

const { t, locale } = useI18n()
const list = usePages((last?: ActList) => got(api.GET('/acts', { params: { query: { before: last?.next ?? undefined, limit: 100 } } })))
const rows = computed(() => list.all.flatMap((page) => page.acts))
const checking = useReading(() => got(api.GET('/acts/check')))
const check = computed(() => checking.data)
</script>

<template>
  <section class="page">
    <div class="page-head"><h1>{{ t('acts') }}</h1></div>
    <Asked :of="list.first" />
    <Asked :of="list.acting" />
    <Asked :of="checking" />
    <p v-if="check" class="check" :class="check.holds ? 'pass' : 'stop'" data-test="check">
      <Mark :tone="check.holds ? 'pass' : 'stop'" />
      <span v-if="check.holds">{{ t('actsHold', { n: check.acts }, check.acts) }} <span class="mono quiet" :title="check.head">{{ check.head.slice(0, 16) }}…</span></span>
      <span v-else>{{ t('actsBroken', { n: check.broken_at ?? 0 }) }} {{ check.why }}</span>
    </p>
    <div class="scroll">
      <table v-ledger class="ledger">
        <thead><tr><th>{{ t('act') }}</th><th>{{ t('time') }}</th><th>{{ t('by') }}</th><th>{{ t('how') }}</th><th>{{ t('what') }}</th><th>{{ t('about') }}</th></tr></thead>
        <tbody>
          <tr v-for="a in rows" :key="a.number">
            <td class="fixed">{{ a.number }}</td>
            <td class="fixed">{{ moment(a.at, locale) }}</td>
            <td class="fixed"><span v-if="a.who">{{ visible(a.who) }}</span><span v-else class="quiet">{{ t('erased') }}</span></td>
            <td class="fixed quiet">{{ a.by ? t(`way.${a.by}`) : '' }}</td>
            <td class="fixed">{{ t(`did.${a.what}`) }}</td>
            <td class="wide">{{ visible(about(a)) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="more"><v-btn v-if="list.last?.next" variant="outlined" :loading="list.acting.busy" @click="list.more">{{ t('moreActs') }}</v-btn></p>
  </section>
</template>

<style scoped>
.check { display: flex; gap: 9px; align-items: baseline; margin-bottom: 12px; }
.check.pass { color: rgb(var(--v-theme-pass)); }
.check.stop { color: rgb(var(--v-theme-stop)); font-weight: 560; }
.more { margin-top: 12px; }
</style>
