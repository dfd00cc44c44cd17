<script setup lang="ts">
// The survey: what is wrong with everything the site depends on, the worst first, each with how it was seen and what to do.
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ApiProblem, got, language, type Survey } from '../api'
import { moment, span, visible, type Tone } from '../look/shape'
import Mark from '../parts/Mark.vue'
import Trouble from '../parts/Trouble.vue'

const props = defineProps<{ role: string }>()
const { t, locale } = useI18n()
const survey = ref<Survey>()
const problem = ref<ApiProblem>()
const busy = ref(false)
const ready = ref(false)
const mayRun = computed(() => props.role !== 'view')
const harms = ['danger', 'broken', 'soon', 'untidy'] as const
const tones: Record<(typeof harms)[number], Tone> = { danger: 'stop', broken: 'stop', soon: 'notice', untidy: 'quiet' }
const groups = computed(() =>
  harms.map((harm) => ({ harm, all: survey.value?.findings.filter((f) => f.harm === harm) ?? [] })).filter((g) => g.all.length),
)

async function read() {
  problem.value = undefined
  try {
    survey.value = await got(api.GET('/survey'))
  } catch (e) {
    if ((e as ApiProblem).status !== 404) problem.value = e as ApiProblem
  }
  ready.value = true
}
watch(language, read, { immediate: true })

async function run() {
  problem.value = undefined
  busy.value = true
  try {
    survey.value = await got(api.POST('/survey'))
  } catch (e) {
    problem.value = e as ApiProblem
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ t('survey.title') }}</h1>
      <span v-if="survey" class="quiet">{{ t('survey.of', { n: survey.edition, node: survey.node, at: moment(survey.at, locale), looked: survey.looked_at, took: span(survey.millis) }) }}</span>
      <v-btn v-if="mayRun" color="primary" :loading="busy" class="now" data-test="survey" @click="run">{{ t('survey.run') }}</v-btn>
    </div>
    <Trouble v-if="problem" :problem="problem" @again="read" />
    <p v-if="!ready" class="quiet">{{ t('loading') }}</p>
    <p v-else-if="!survey && !problem" class="quiet">{{ t('survey.none') }}</p>
    <template v-if="survey">
      <p v-for="n in survey.not_seen" :key="n" class="bad"><Mark tone="stop" /> {{ t('survey.notSeen', { what: n }) }}</p>
      <p v-if="!survey.findings.length" class="well"><Mark tone="pass" /> {{ t('survey.well') }}</p>
      <section v-for="g in groups" :key="g.harm" class="harm" :data-harm="g.harm">
        <h2><Mark :tone="tones[g.harm]" /> {{ t(`survey.harm.${g.harm}`) }} <span class="quiet">{{ g.all.length }}</span></h2>
        <article v-for="f in g.all" :key="f.code + f.what">
          <p class="what">{{ visible(f.what) }}</p>
          <p class="next">→ {{ visible(f.remedy) }}</p>
          <p class="quiet">{{ visible(f.seen) }} <span class="mono">{{ f.code }}</span></p>
        </article>
      </section>
    </template>
  </section>
</template>

<style scoped>
.now { margin-inline-start: auto; }
.harm { margin-bottom: 18px; }
h2 { display: flex; gap: 8px; align-items: center; font-size: 1.02rem; font-weight: 600; margin-bottom: 6px; }
article p { margin: 0; }
article { background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); padding: 8px 14px; margin-bottom: 6px; }
.harm[data-harm='danger'] article { border-inline-start: 4px solid rgb(var(--v-theme-stop)); }
.what { font-weight: 560; overflow-wrap: anywhere; }
.next { overflow-wrap: anywhere; }
article p + p { margin-top: 3px; }
.well { display: flex; gap: 8px; align-items: center; }
.bad { color: rgb(var(--v-theme-stop)); }
</style>
