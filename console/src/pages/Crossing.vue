<script setup lang="ts">
// The story of one crossing. The eye lands on the step that decided; the whole story stands below it.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, got } from '../api'
import { useReading } from '../api/asking'
import { bearingTone, bytes, span, visible } from '../look/shape'
import State from '../parts/State.vue'
import Story from '../parts/Story.vue'
import Asked from '../parts/Asked.vue'

const { t, locale } = useI18n()
const props = defineProps<{ id: string }>()
const reading = useReading(() => got(api.GET('/crossings/{id}', { params: { path: { id: props.id } } })), [() => props.id])
const crossing = computed(() => reading.data)

const decided = computed(() => crossing.value?.steps.find((s) => s.decided))
const took = computed(() => span(Math.max(0, ...(crossing.value?.steps.map((s) => s.at_ms) ?? [0]))))
const full = (iso: string) => new Date(iso).toLocaleString(locale.value, { dateStyle: 'medium', timeStyle: 'medium', hour12: false })
</script>

<template>
  <section class="page">
    <Asked :of="reading" />
    <template v-if="crossing">
      <div class="page-head">
        <h1><span class="mono">{{ crossing.id }}</span></h1>
        <State :outcome="crossing.outcome" :words="crossing.outcome_words" />
        <span>{{ crossing.person ? visible(crossing.person) : t('unknownPerson') }} <span class="quiet">·</span> {{ crossing.gate }}</span>
        <span class="quiet">{{ full(crossing.at) }}</span>
      </div>
      <div class="two">
        <div>
          <div v-if="decided" class="decided" :class="bearingTone(decided.bearing)" data-test="decided">
            <p class="over">{{ t('decided') }} <span class="quiet">· {{ t(`stage.${decided.stage}`) }}, {{ decided.number }}</span></p>
            <p class="sentence">{{ visible(decided.sentence) }}</p>
            <p v-if="decided.remedy" class="remedy"><b>{{ t('next') }}</b> {{ visible(decided.remedy) }}</p>
          </div>
          <h2>{{ t('steps', { n: crossing.steps.length }) }}</h2>
          <Story :steps="crossing.steps" />
        </div>
        <aside>
          <h2>{{ t('facts') }}</h2>
          <dl>
            <dt>{{ t('person') }}</dt><dd>{{ crossing.person ? visible(crossing.person) : '—' }}</dd>
            <dt>{{ t('subject') }}</dt><dd class="mono">{{ crossing.subject ? visible(crossing.subject) : '—' }}</dd>
            <dt>{{ t('provider') }}</dt><dd>{{ crossing.provider ?? '—' }}</dd>
            <dt>{{ t('from') }}</dt><dd class="mono">{{ crossing.address }}</dd>
            <dt>{{ t('request') }}</dt><dd class="mono">{{ crossing.method }} {{ visible(crossing.target) }}</dd>
            <dt>{{ t('took') }}</dt><dd>{{ took }}</dd>
            <dt>{{ t('node') }}</dt><dd>{{ crossing.node }}, {{ t('edition', { n: crossing.edition }) }}</dd>
            <template v-if="crossing.requests"><dt>{{ t('requests', { n: crossing.requests }) }}</dt><dd>{{ t('bytes', { in: bytes(crossing.bytes_in), out: bytes(crossing.bytes_out) }) }}</dd></template>
            <template v-if="crossing.repeats"><dt /><dd>{{ t('repeats', { n: crossing.repeats }) }}</dd></template>
          </dl>
          <p class="links">
            <router-link v-if="crossing.subject && crossing.provider" :to="`/people/${encodeURIComponent(crossing.provider)}/${encodeURIComponent(crossing.subject)}`">{{ t('roles.page') }}</router-link>
            <router-link v-if="crossing.subject" :to="{ path: '/crossings', query: { person: crossing.subject } }">{{ t('samePerson') }}</router-link>
            <router-link :to="{ path: '/crossings', query: { gate: crossing.gate } }">{{ t('sameGate') }}</router-link>
          </p>
          <details v-if="crossing.evidence">
            <summary>{{ t('evidence') }}</summary>
            <p class="quiet">{{ t('evidenceWords') }}</p>
            <pre tabindex="0" class="mono">{{ visible(JSON.stringify(crossing.evidence, null, 1)).replaceAll('\\u{a}', '\n') }}</pre>
          </details>
        </aside>
      </div>
    </template>
  </section>
</template>

<style scoped>
.two { display: grid; grid-template-columns: minmax(0, 1fr) 320px; gap: 28px; }
h2 { font-size: 1rem; font-weight: 600; margin: 4px 0 8px; }
.decided { background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); border-inline-start: 5px solid rgb(var(--v-theme-quiet)); padding: 12px 16px; margin-bottom: 20px; }
.decided.stop { border-inline-start-color: rgb(var(--v-theme-stop)); }
.decided.pass { border-inline-start-color: rgb(var(--v-theme-pass)); }
.over { font-size: 0.9rem; font-weight: 560; margin: 0 0 4px; }
.sentence { font-size: 1.12rem; line-height: 1.45; overflow-wrap: anywhere; margin: 0; }
.remedy { margin: 8px 0 0; overflow-wrap: anywhere; }
.remedy b { font-weight: 600; margin-inline-end: 6px; }
dl { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 4px 14px; margin: 0; }
dt { color: rgb(var(--v-theme-quiet)); }
dd { margin: 0; overflow-wrap: anywhere; }
.links { display: grid; gap: 4px; margin: 14px 0; }
pre { max-height: 420px; overflow: auto; background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); padding: 8px; font-size: 0.82rem; white-space: pre-wrap; overflow-wrap: anywhere; }
summary { cursor: pointer; font-weight: 560; }
@media (max-width: 1000px) { .two { grid-template-columns: minmax(0, 1fr); } aside { order: 2; } }
</style>
