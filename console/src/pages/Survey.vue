<script setup lang="ts">
// The survey: what is wrong with everything the site depends on, the worst first, each with how it was seen and what to do.
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ApiProblem, got, language, type Survey } from '../api'
import { moment, span } from '../look/shape'
import { useAttempt } from '../parts/attempt'
import Findings from '../parts/Findings.vue'
import Mark from '../parts/Mark.vue'
import Trouble from '../parts/Trouble.vue'

const props = defineProps<{ rights: string }>()
const { t, locale } = useI18n()
const survey = ref<Survey>()
const { problem, busy, attempt } = useAttempt()
const ready = ref(false)
const mayRun = computed(() => props.rights !== 'view')
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

const run = () => attempt(async () => { survey.value = await got(api.POST('/survey')) })
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
      <Findings :findings="survey.findings" />
    </template>
  </section>
</template>

<style scoped>
.now { margin-inline-start: auto; }
.bad { color: rgb(var(--v-theme-stop)); }
</style>
