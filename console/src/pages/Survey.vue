<script setup lang="ts">
// The survey: what is wrong with everything the site depends on, the worst first, each with how it was seen and what to do.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, found, got } from '../api'
import { useActing, useReading } from '../api/asking'
import { moment, span } from '../look/shape'
import Findings from '../parts/Findings.vue'
import Mark from '../parts/Mark.vue'
import Asked from '../parts/Asked.vue'

const props = defineProps<{ rights: string }>()
const { t, locale } = useI18n()
const mayRun = computed(() => props.rights !== 'view')
const reading = useReading(() => found(api.GET('/survey')))
const survey = computed(() => reading.data)
const running = useActing()
const run = () => running.act(async () => {
  reading.data = await got(api.POST('/survey'))
})
</script>

<template>
  <section class="page">
    <div class="page-head">
      <h1>{{ t('survey.title') }}</h1>
      <span v-if="survey" class="quiet">{{ t('survey.of', { n: survey.edition, node: survey.node, at: moment(survey.at, locale), looked: survey.looked_at, took: span(survey.millis) }) }}</span>
      <v-btn v-if="mayRun" color="primary" :loading="running.busy" class="now" data-test="survey" @click="run">{{ t('survey.run') }}</v-btn>
    </div>
    <Asked :of="reading" />
    <Asked :of="running" />
    <p v-if="reading.answered && !survey" class="quiet">{{ t('survey.none') }}</p>
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
