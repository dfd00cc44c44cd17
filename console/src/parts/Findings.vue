<script setup lang="ts">
// Findings of a survey by harm, the worst first, each with what to do and how it was seen.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Harm, SurveyFinding } from '../api'
import { visible, type Tone } from '../look/shape'
import Mark from './Mark.vue'

const props = defineProps<{ findings: SurveyFinding[] }>()
const { t } = useI18n()
const tones: Record<Harm, Tone> = { danger: 'stop', broken: 'stop', soon: 'notice', untidy: 'quiet' }
const harms = Object.keys(tones) as Harm[]
const groups = computed(() => harms.map((harm) => ({ harm, all: props.findings.filter((f) => f.harm === harm) })).filter((g) => g.all.length))
</script>

<template>
  <p v-if="!findings.length" class="well"><Mark tone="pass" /> {{ t('survey.well') }}</p>
  <section v-for="g in groups" :key="g.harm" class="harm" :data-harm="g.harm">
    <h2><Mark :tone="tones[g.harm]" /> {{ t(`survey.harm.${g.harm}`) }} <span class="quiet">{{ g.all.length }}</span></h2>
    <article v-for="f in g.all" :key="f.code + f.what">
      <p class="what">{{ visible(f.what) }}</p>
      <p class="next">→ {{ visible(f.remedy) }}</p>
      <p class="quiet">{{ visible(f.seen) }} <span class="mono">{{ f.code }}</span></p>
    </article>
  </section>
</template>

<style scoped>
.harm { margin-bottom: 18px; }
h2 { display: flex; gap: 8px; align-items: center; font-size: 1.02rem; font-weight: 600; margin-bottom: 6px; }
article p { margin: 0; }
article { background: rgb(var(--v-theme-surface)); border: 1px solid rgb(var(--v-theme-line)); padding: 8px 14px; margin-bottom: 6px; }
.harm[data-harm='danger'] article { border-inline-start: 4px solid rgb(var(--v-theme-stop)); }
.what { font-weight: 560; overflow-wrap: anywhere; }
.next { overflow-wrap: anywhere; }
article p + p { margin-top: 3px; }
.well { display: flex; gap: 8px; align-items: center; }
</style>
