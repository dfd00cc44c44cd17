<script setup lang="ts">
// Personal profiles of tunnels: whose machine has one, and taking it away.
import { useI18n } from 'vue-i18n'
import { api, got } from '../api'
import { useActing, useReading } from '../api/asking'
import { moment, visible } from '../look/shape'
import Asked from './Asked.vue'

const { t, locale } = useI18n()
const reading = useReading(() => got(api.GET('/profiles', {})))
const acting = useActing()
const revoke = (id: string) =>
  acting.act(async () => {
    await got(api.POST('/profiles/revoke', { body: { profiles: [id] } }))
    await reading.again()
  })
const isOver = (until: string) => new Date(until) <= new Date()
</script>

<template>
  <section v-if="reading.data?.length" data-test="profiles">
    <h2>{{ t('present.profiles') }}</h2>
    <Asked :of="acting" />
    <div class="scroll">
      <table class="ledger">
        <thead><tr><th>{{ t('person') }}</th><th>{{ t('present.device') }}</th><th>{{ t('gate') }}</th><th>{{ t('present.made') }}</th><th>{{ t('present.used') }}</th><th>{{ t('goodUntil') }}</th><th data-bare><span class="unseen">{{ t('whatToDo') }}</span></th></tr></thead>
        <tbody>
          <tr v-for="p in reading.data" :key="p.id" data-test="profile">
            <td class="person"><router-link :to="`/people/${encodeURIComponent(p.provider)}/${encodeURIComponent(p.subject)}`">{{ visible(p.name) }}</router-link></td>
            <td>{{ visible(p.device) }}</td>
            <td>{{ p.gate }}</td>
            <td class="fixed">{{ moment(p.created_at, locale) }}</td>
            <td class="fixed">{{ p.used_at ? moment(p.used_at, locale) : '—' }}</td>
            <td>
              <template v-if="p.revoked_at">{{ t('present.revoked') }} {{ moment(p.revoked_at, locale) }}<div class="quiet">{{ visible(p.revoked_by ?? '') }}</div></template>
              <template v-else-if="isOver(p.expires_at)">{{ t('present.over') }}</template>
              <template v-else>{{ moment(p.expires_at, locale) }}</template>
            </td>
            <td><v-btn v-if="!p.revoked_at && !isOver(p.expires_at)" data-test="revoke" size="small" variant="outlined" color="stop" @click="revoke(p.id)">{{ t('present.revoke') }}</v-btn></td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
h2 { font-size: 1.02rem; font-weight: 600; margin: 22px 0 14px; }
</style>
