<script setup lang="ts">
// The story of one crossing. The eye lands on the step that decided; the whole story stands below it.
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ApiProblem, got, language, type Crossing, type Step } from '../api'
import { bearingTone, bytes, span, visible } from '../look/shape'
import Mark from '../parts/Mark.vue'
import State from '../parts/State.vue'
import Trouble from '../parts/Trouble.vue'

const { t, locale } = useI18n()
const props = defineProps<{ id: string }>()
const crossing = ref<Crossing>()
const problem = ref<ApiProblem>()

async function read() {
  problem.value = undefined
  try {
    crossing.value = await got(api.GET('/crossings/{id}', { params: { path: { id: props.id } } }))
  } catch (e) {
    problem.value = e as ApiProblem
  }
}
watch([() => props.id, language], read, { immediate: true })

const decided = computed(() => crossing.value?.steps.find((s) => s.decided))
const groups = computed(() => {
  const out: { stage: string; steps: Step[] }[] = []
  for (const step of crossing.value?.steps ?? []) {
    const last = out.at(-1)
    if (last?.stage === step.stage) last.steps.push(step)
    else out.push({ stage: step.stage, steps: [step] })
  }
  return out
})
const took = computed(() => span(Math.max(0, ...(crossing.value?.steps.map((s) => s.at_ms) ?? [0]))))
const full = (iso: string) => new Date(iso).toLocaleString(locale.value, { dateStyle: 'medium', timeStyle: 'medium', hour12: false })
</script>

<template>
  <section class="page">
    <Trouble v-if="problem" :problem="problem" @again="read" />
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
          <ol class="story">
            <li v-for="(g, i) in groups" :key="i" class="stage">
              <h3>{{ t(`stage.${g.stage}`) }}</h3>
              <ol>
                <li v-for="s in g.steps" :key="s.number" :class="{ here: s.decided }" :title="s.code">
                  <span class="n quiet">{{ s.number }}</span>
                  <Mark :tone="bearingTone(s.bearing)" />
                  <span class="sr">{{ t(`bearing.${s.bearing}`) }}</span>
                  <span class="words">{{ visible(s.sentence) }}</span>
                  <span class="at quiet">{{ span(s.at_ms) }}</span>
                </li>
              </ol>
            </li>
          </ol>
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
            <router-link v-if="crossing.subject" :to="{ path: '/crossings', query: { person: crossing.subject } }">{{ t('samePerson') }}</router-link>
            <router-link :to="{ path: '/crossings', query: { gate: crossing.gate } }">{{ t('sameGate') }}</router-link>
          </p>
          <details v-if="crossing.evidence">
            <summary>{{ t('evidence') }}</summary>
            <p class="quiet">{{ t('evidenceWords') }}</p>
            <pre class="mono">{{ visible(JSON.stringify(crossing.evidence, null, 1)).replaceAll('\\u{a}', '\n') }}</pre>
          </details>
        </aside>
      </div>
    </template>
    <p v-else-if="!problem" class="quiet">{{ t('loading') }}</p>
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
.story, .story ol { list-style: none; padding: 0; margin: 0; }
.story { background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); }
.stage { display: grid; grid-template-columns: 104px minmax(0, 1fr); border-top: 1px solid rgb(var(--v-theme-line)); }
.stage:first-child { border-top: 0; }
.stage h3 { font-size: 0.86rem; font-weight: 560; color: rgb(var(--v-theme-quiet)); margin: 0; padding: 6px 12px; }
.stage li { display: grid; grid-template-columns: 22px 12px minmax(0, 1fr) max-content; gap: 8px; align-items: baseline; padding: 4px 12px 4px 0; }
.stage li.here { background: rgb(var(--v-theme-surface-variant), 0.6); }
.stage li.here .words { font-weight: 560; }
.n { text-align: end; font-size: 0.86rem; }
.words { overflow-wrap: anywhere; }
.at { font-size: 0.86rem; white-space: nowrap; }
.sr { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); }
dl { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 4px 14px; margin: 0; }
dt { color: rgb(var(--v-theme-quiet)); }
dd { margin: 0; overflow-wrap: anywhere; }
.links { display: grid; gap: 4px; margin: 14px 0; }
pre { max-height: 420px; overflow: auto; background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); padding: 8px; font-size: 0.82rem; white-space: pre-wrap; overflow-wrap: anywhere; }
summary { cursor: pointer; font-weight: 560; }
@media (max-width: 1000px) { .two { grid-template-columns: minmax(0, 1fr); } aside { order: 2; } }
@media (max-width: 600px) { .stage { grid-template-columns: minmax(0, 1fr); } .stage li { padding-inline-start: 8px; } }
</style>
