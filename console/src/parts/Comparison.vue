<script setup lang="ts">
// What a change means: what people lose and gain in words, and the plain difference under it.
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { ChangeBearing, Comparison } from '../api'
import { visible, type Tone } from '../look/shape'
import Mark from './Mark.vue'

const props = defineProps<{ comparison: Comparison }>()
const { t } = useI18n()
const lines = computed(() => props.comparison.difference.split('\n').filter(Boolean).slice(2))
const tones: Record<ChangeBearing, Tone> = { narrower: 'stop', wider: 'pass', other: 'quiet' }
const kind = (line: string) => (line.startsWith('+') ? 'added' : line.startsWith('-') ? 'removed' : line.startsWith('@') ? 'place' : '')
</script>

<template>
  <div class="comparison" data-test="comparison">
    <p v-if="!comparison.difference" class="quiet">{{ t('same') }}</p>
    <p v-else-if="!comparison.changes.length" class="quiet">{{ t('sameMeaning') }}</p>
    <ul>
      <li v-for="c in comparison.changes" :key="c.words"><Mark :tone="tones[c.bearing]" /> <span>{{ visible(c.words) }}</span> <span class="quiet bearing">{{ t(`bears.${c.bearing}`) }}</span></li>
    </ul>
    <details v-if="comparison.difference">
      <summary>{{ t('difference') }}</summary>
      <pre tabindex="0" class="mono"><span v-for="(l, i) in lines" :key="i" :class="kind(l)">{{ visible(l) }}
</span></pre>
    </details>
  </div>
</template>

<style scoped>
ul { list-style: none; padding: 0; margin: 4px 0 10px; }
li { display: flex; gap: 9px; align-items: baseline; padding: 2px 0; overflow-wrap: anywhere; }
.bearing { margin-inline-start: auto; white-space: nowrap; font-size: 0.86rem; }
pre { overflow: auto; max-height: 420px; padding: 10px 12px; border: 1px solid rgb(var(--v-theme-line)); background: rgb(var(--v-theme-background)); line-height: 1.5; }
.added { color: rgb(var(--v-theme-pass)); }
.removed { color: rgb(var(--v-theme-stop)); }
.place { color: rgb(var(--v-theme-quiet)); }
summary { cursor: pointer; color: rgb(var(--v-theme-primary)); margin-bottom: 6px; }
</style>
