<script setup lang="ts">
// A trial sign-in: where it is opened, and all that came back.
import { computed, onUnmounted } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got, type FareVerdict } from '../api'
import { useReading } from '../api/asking'
import { bearingTone, moment, visible, type Tone } from '../look/shape'
import Copy from '../parts/Copy.vue'
import Mark from '../parts/Mark.vue'
import State from '../parts/State.vue'
import Story from '../parts/Story.vue'
import Asked from '../parts/Asked.vue'

const props = defineProps<{ id: string }>()
const { t, locale } = useI18n()
let timer: ReturnType<typeof setTimeout> | undefined
const reading = useReading(async () => {
  clearTimeout(timer)
  const trial = await got(api.GET('/trials/sign-in/{id}', { params: { path: { id: props.id } } }))
  if (!trial.brought) timer = setTimeout(() => reading.again(), 1500)
  return trial
}, [() => props.id])
onUnmounted(() => clearTimeout(timer))
const trial = computed(() => reading.data)
const brought = computed(() => trial.value?.brought)
const decided = computed(() => brought.value?.steps.find((s) => s.decided))
const tones: Record<FareVerdict, Tone> = { in: 'pass', out: 'stop', 'no-gate': 'quiet', 'not-known': 'quiet' }
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ t('trial.title') }}</h1>
      <template v-if="trial">
        <State v-if="brought" :outcome="brought.outcome" :words="brought.outcome_words" />
        <span>{{ trial.provider }}</span>
        <span class="quiet">{{ t('trial.of', { source: trial.source, by: visible(trial.begun_by), at: moment(trial.begun, locale) }) }}</span>
      </template>
    </div>
    <Asked :of="reading" />
    <div v-if="trial && !brought" class="waits">
      <p>{{ t('trial.open') }}</p>
      <p class="mono link"><a :href="trial.address" target="_blank" rel="noopener" data-test="open">{{ trial.address }}</a> <Copy :text="trial.address" small /></p>
      <p v-if="trial.register" data-test="register">{{ t('trial.register') }} <span class="mono">{{ trial.register }}</span> <Copy :text="trial.register" small /></p>
      <p class="quiet">{{ t('trial.waits', { at: moment(trial.until, locale) }) }}</p>
    </div>
    <template v-if="brought">
      <div v-if="decided" class="decided" :class="bearingTone(decided.bearing)" data-test="decided">
        <p class="sentence">{{ visible(decided.sentence) }}</p>
        <p v-if="decided.remedy" class="remedy"><b>{{ t('next') }}</b> {{ visible(decided.remedy) }}</p>
      </div>
      <section v-if="brought.gates.length">
        <h2>{{ t('trial.gates') }}</h2>
        <details v-for="g in brought.gates" :key="g.gate" class="gate">
          <summary>
            <Mark :tone="tones[g.verdict]" /> <b>{{ g.gate }}</b> <span>{{ t(`trial.verdict.${g.verdict}`) }}</span>
            <span v-if="!g.uses" class="quiet">{{ t('trial.asIf') }}</span>
            <span v-if="g.missing.length" class="notice">{{ t('trial.missing', { n: g.missing.length }, g.missing.length) }}</span>
            <span class="quiet because">{{ visible(g.because) }}</span>
          </summary>
          <ul v-if="g.missing.length" class="lacks"><li v-for="m in g.missing" :key="m"><Mark tone="notice" /> {{ visible(m) }}</li></ul>
          <ul v-if="g.headers.length" class="mono heads"><li v-for="h in g.headers" :key="h">{{ visible(h) }}</li></ul>
          <Story :steps="g.steps" />
        </details>
      </section>
      <section v-for="r in brought.raw" :key="r.name">
        <h2>{{ t('trial.raw', { name: r.name }) }} <Copy :text="r.text" small /></h2>
        <pre tabindex="0" class="mono" data-test="raw">{{ r.text.split('\n').map(visible).join('\n') }}</pre>
      </section>
      <h2>{{ t('steps', { n: brought.steps.length }) }} <router-link class="to" :to="`/crossings/${brought.crossing}`">{{ brought.crossing }}</router-link></h2>
      <Story :steps="brought.steps" />
    </template>
  </section>
</template>

<style scoped>
h2 { font-size: 1.02rem; font-weight: 600; margin: 18px 0 6px; }
.waits, .decided { background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); border-inline-start: 5px solid rgb(var(--v-theme-quiet)); padding: 12px 16px; }
.waits p { margin: 0 0 6px; }
.link { overflow-wrap: anywhere; }
.decided.stop { border-inline-start-color: rgb(var(--v-theme-stop)); }
.decided.pass { border-inline-start-color: rgb(var(--v-theme-pass)); }
.sentence { font-size: 1.08rem; margin: 0; overflow-wrap: anywhere; }
.remedy { margin: 8px 0 0; overflow-wrap: anywhere; }
.remedy b { font-weight: 600; margin-inline-end: 6px; }
.gate { background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); border-bottom: 0; }
.gate:last-child { border-bottom: 1px solid rgb(var(--v-theme-line)); }
.gate > summary { display: flex; flex-wrap: wrap; gap: 4px 12px; align-items: baseline; padding: 7px 12px; cursor: pointer; list-style: none; }
.gate > summary::before { content: '▸'; }
.gate[open] > summary::before { content: '▾'; }
.gate > ul, .gate > .story { margin: 0 12px 10px; }
.because { flex-basis: 100%; padding-inline-start: 22px; overflow-wrap: anywhere; }
.notice { color: rgb(var(--v-theme-notice)); font-weight: 560; }
.lacks, .heads { list-style: none; padding: 0; overflow-wrap: anywhere; }
pre { max-height: 360px; overflow: auto; background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); padding: 10px 12px; font-size: 0.82rem; white-space: pre-wrap; overflow-wrap: anywhere; margin: 0; }
.to { font-weight: 400; font-size: 0.93rem; margin-inline-start: 10px; }
</style>
