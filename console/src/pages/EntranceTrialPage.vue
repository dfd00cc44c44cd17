<script setup lang="ts">
// A trial of an entrance: what is wrong before anybody connects, who waits, and all that came, with nothing opened.
import { computed, onUnmounted } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type TriedStage } from '../api'
import { useActing, useReading } from '../api/asking'
import { whom } from '../look/entrance'
import { moment, visible, type Tone } from '../look/shape'
import Asked from '../parts/Asked.vue'
import Copy from '../parts/Copy.vue'
import Findings from '../parts/Findings.vue'
import Mark from '../parts/Mark.vue'
import Story from '../parts/Story.vue'

const props = defineProps<{ id: string; rights: string }>()
const { t, locale } = useI18n()
let timer: ReturnType<typeof setTimeout> | undefined
const reading = useReading(async () => {
  clearTimeout(timer)
  const trial = await got(api.GET('/trials/entrance/{id}', { params: { path: { id: props.id } } }))
  if (trial.open) timer = setTimeout(() => reading.again(), 1500)
  return trial
}, [() => props.id])
onUnmounted(() => clearTimeout(timer))
const trial = computed(() => reading.data)
const acting = useActing()
const end = () =>
  acting.act(async () => {
    await got(api.DELETE('/trials/entrance/{id}', { params: { path: { id: props.id } } }))
    await reading.again()
  })
const tones: Record<TriedStage, Tone> = { 'signing-in': 'quiet', 'signed-in': 'quiet', refused: 'stop', 'let-in': 'notice', stands: 'pass', over: 'quiet' }
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ t('entranceTrial.title') }}</h1>
      <template v-if="trial">
        <b>{{ trial.entrance }}</b>
        <span>{{ whom(trial, t) }}</span>
        <span class="quiet">{{ t('entranceTrial.of', { by: visible(trial.begun_by), at: moment(trial.begun, locale) }) }}</span>
        <v-btn v-if="trial.open && rights !== 'view'" size="small" variant="outlined" color="stop" data-test="end-trial" :loading="acting.busy" @click="end">{{ t('entranceTrial.end') }}</v-btn>
      </template>
    </div>
    <Asked :of="reading" />
    <Asked :of="acting" />
    <template v-if="trial">
      <Findings v-if="trial.findings.length" :findings="trial.findings" />
      <div class="waits" role="status">
        <template v-if="trial.open">
          <p v-if="trial.servers.length">{{ t('entranceTrial.connect') }} <template v-for="(s, i) in trial.servers" :key="s"><template v-if="i">, </template><span class="mono">{{ s }}</span> <Copy :text="s" small /></template></p>
          <p v-for="w in trial.waiting" :key="w.outside + w.since" data-test="waiting"><Mark tone="notice" /> {{ t(w.answered ? 'entranceTrial.answered' : 'entranceTrial.waiting', { address: w.outside, says: w.says ? visible(w.says) : t('entranceTrial.silent'), at: moment(w.since, locale) }) }}</p>
          <p v-if="!trial.waiting.length && !trial.tried.length" class="quiet">{{ t('entranceTrial.nobody') }}</p>
          <p class="quiet">{{ t('entranceTrial.until', { at: moment(trial.until, locale) }) }}</p>
        </template>
        <p v-else>{{ trial.ended ? t('entranceTrial.ended', { by: visible(trial.ended_by ?? ''), at: moment(trial.ended, locale) }) : t('entranceTrial.over', { at: moment(trial.until, locale) }) }}</p>
      </div>
      <details v-for="(c, i) in trial.tried" :key="c.id" class="came" :open="i === 0" data-test="tried">
        <summary>
          <Mark :tone="tones[c.stage]" /> <b>{{ visible(c.person ?? t('entranceTrial.somebody')) }}</b> <span>{{ c.stage_words }}</span>
          <router-link class="mono" :to="`/crossings/${c.id}`">{{ c.id }}</router-link> <span class="quiet">{{ moment(c.at, locale) }}</span>
        </summary>
        <dl>
          <template v-if="c.would_open.length"><dt>{{ t('entranceTrial.wouldOpen') }}</dt><dd><div v-for="o in c.would_open" :key="o">{{ visible(o) }}</div></dd></template>
          <template v-if="c.addresses.length"><dt>{{ t('entranceTrial.addresses') }}</dt><dd class="mono">{{ c.addresses.join(', ') }}</dd></template>
          <template v-if="c.lines.length"><dt>{{ t('entranceTrial.told') }}</dt><dd class="mono"><div v-for="l in c.lines" :key="l">{{ visible(l) }}</div></dd></template>
        </dl>
        <Story :steps="c.steps" />
      </details>
    </template>
  </section>
</template>

<style scoped>
.waits { background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); border-inline-start: 5px solid rgb(var(--v-theme-quiet)); padding: 12px 16px; margin-bottom: 14px; }
.waits p { margin: 0 0 6px; overflow-wrap: anywhere; }
.waits p:last-child { margin-bottom: 0; }
.came { background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); margin-bottom: 8px; }
.came > summary { display: flex; flex-wrap: wrap; gap: 4px 12px; align-items: baseline; padding: 8px 12px; cursor: pointer; list-style: none; }
.came > summary::before { content: '▸'; }
.came[open] > summary::before { content: '▾'; }
dl { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 4px 14px; margin: 0 12px 10px; }
dl:empty { display: none; }
dt { color: rgb(var(--v-theme-quiet)); }
dd { margin: 0; overflow-wrap: anywhere; }
.came > .story { margin: 0 12px 12px; }
@media (max-width: 600px) { dl { grid-template-columns: minmax(0, 1fr); } dd { margin-bottom: 4px; } }
</style>
