<script setup lang="ts">
// The history of editions, and the way to the draft.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, found, got } from '../api'
import { useReading } from '../api/asking'
import { moment, visible } from '../look/shape'
import Mark from '../parts/Mark.vue'
import Asked from '../parts/Asked.vue'

const { t, locale } = useI18n()
defineProps<{ rights: string }>()
const reading = useReading(async () => {
  const [rows, draft] = await Promise.all([got(api.GET('/site/editions')), found(api.GET('/site/draft'))])
  return { rows, draft }
})
const rows = computed(() => reading.data?.rows)
const draft = computed(() => reading.data?.draft)
</script>

<template>
  <section class="page">
    <div class="page-head"><h1>{{ t('editions') }}</h1></div>
    <Asked :of="reading" />
    <p v-if="reading.answered" class="draft">
      <template v-if="draft"><Mark :tone="draft.sound ? 'notice' : 'stop'" /> {{ t('draftOf', { who: visible(draft.author), n: draft.based_on, at: moment(draft.changed_at, locale) }) }}<span v-if="!draft.sound" class="bad">{{ t('draftBad') }}</span></template>
      <span v-else class="quiet">{{ t('draftNone') }}</span>
      <v-btn v-if="rights === 'configure' || draft" color="primary" to="/editions/draft" data-test="draft">{{ draft ? t('draftOpen') : t('draftBegin') }}</v-btn>
    </p>
    <div class="scroll">
      <table v-ledger class="ledger">
        <thead><tr><th>{{ t('number') }}</th><th>{{ t('published') }}</th><th>{{ t('by') }}</th><th>{{ t('state') }}</th><th>{{ t('note') }}</th></tr></thead>
        <tbody>
          <tr v-for="e in rows" :key="e.number">
            <td class="fixed"><router-link :to="`/editions/${e.number}`">{{ t('edition', { n: e.number }) }}</router-link></td>
            <td class="fixed">{{ moment(e.published_at, locale) }}</td>
            <td class="fixed">{{ visible(e.author) }}</td>
            <td class="fixed">
              <span v-if="e.live && e.confirm_by && !e.confirmed_by" class="notice"><Mark tone="notice" /> {{ t('confirmBy', { at: moment(e.confirm_by, locale) }) }}</span>
              <span v-else-if="e.live" class="pass"><Mark tone="pass" /> {{ t('liveNow') }}</span>
              <span v-else-if="e.confirm_by && !e.confirmed_by" class="quiet">{{ t('notConfirmed') }}</span>
            </td>
            <td class="wide">{{ visible(e.note) }} <span v-if="e.copy_of" class="quiet">{{ t('copyOf', { n: e.copy_of }) }}</span></td>
          </tr>
          <tr v-if="rows && !rows.length"><td colspan="5" class="quiet">{{ t('none.editions') }}</td></tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
.draft { display: flex; flex-wrap: wrap; gap: 8px 14px; align-items: center; padding: 12px 16px; margin-bottom: 14px; background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); }
.draft .v-btn { margin-inline-start: auto; }
.bad { color: rgb(var(--v-theme-stop)); }
.pass { color: rgb(var(--v-theme-pass)); }
.notice { color: rgb(var(--v-theme-notice)); font-weight: 560; }
.fixed :deep(.mark) { margin-inline-end: 5px; }
</style>
