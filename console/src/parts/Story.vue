<script setup lang="ts">
// Steps in order, by stage: what happened, each with its mark and time.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Step } from '../api'
import { bearingTone, span, visible } from '../look/shape'
import Mark from './Mark.vue'

const { t } = useI18n()
const props = defineProps<{ steps: Step[] }>()
const groups = computed(() => {
  const out: { stage: string; steps: Step[] }[] = []
  for (const step of props.steps) {
    const last = out.at(-1)
    if (last?.stage === step.stage) last.steps.push(step)
    else out.push({ stage: step.stage, steps: [step] })
  }
  return out
})
</script>

<template>
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
</template>

<style scoped>
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
@media (max-width: 600px) { .stage { grid-template-columns: minmax(0, 1fr); } .stage li { padding-inline-start: 8px; } }
</style>
